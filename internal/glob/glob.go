// Package glob tells which paths a list of patterns means, and whether two
// patterns may mean the same path.
//
// Paths are relative and separated by slashes. * and ? match within a name,
// [a-z] a range, {a,b} one of several texts, ** any number of names. A pattern
// that matches a folder means all below it.
package glob

import (
	"errors"
	"fmt"
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Pattern is one pattern of a list.
type Pattern struct {
	Text string // without the leading !
	Not  bool   // it takes away from what the patterns before it match
}

// Set is a compiled list of patterns: of those that match a path, the last one
// counts. It does not change and may be used from many goroutines.
type Set struct{ alternatives []alternative }

// alternative is one of the texts that a pattern comes to when its braces are opened.
type alternative struct {
	names []name
	not   bool
}

// name is what one name of a path must match.
type name struct {
	kind kind
	text string
}

type kind uint8

const (
	exact  kind = iota // text itself
	any                // every name
	suffix             // * and text
	prefix             // text and *
	wild               // text is a pattern
	deep               // any number of names
)

// maxNames is how many names a pattern may have: their states fit in a word.
const maxNames = 62

// maxWays is how many texts the braces of a pattern may come to.
const maxAlternatives = 1024

// Compile returns the set of patterns.
func Compile(patterns []Pattern) (*Set, error) {
	s := &Set{}
	for _, p := range patterns {
		if err := Check(p.Text); err != nil {
			return nil, err
		}
		texts, _ := open(p.Text)
		for _, text := range texts {
			s.alternatives = append(s.alternatives, alternative{split(text), p.Not})
		}
	}
	return s, nil
}

// Check returns what is wrong with a pattern, or nil.
func Check(pattern string) error {
	unended := fmt.Errorf("%q is no pattern: a bracket, a brace or a backslash has no end", pattern)
	if !doublestar.ValidatePattern(pattern) {
		return unended
	}
	texts, ok := open(pattern)
	if !ok {
		return fmt.Errorf("the braces of %q come to more than %d texts", pattern, maxAlternatives)
	}
	for _, text := range texts {
		if strings.Count(text, "/") >= maxNames {
			return errors.New("a pattern of more than 60 names")
		}
		for name := range strings.SplitSeq(text, "/") {
			if !doublestar.ValidatePattern(name) { // a slash or a comma parts what stands in brackets
				return unended
			}
		}
	}
	return nil
}

// open returns the texts that the braces of a pattern come to.
func open(pattern string) (texts []string, ok bool) {
	start, end, commas := braces(pattern)
	if start < 0 {
		return []string{pattern}, true
	}
	tails, ok := open(pattern[end+1:])
	if !ok {
		return nil, false
	}
	from := start + 1
	for _, to := range append(commas, end) {
		middles, ok := open(pattern[from:to])
		if !ok || len(texts)+len(middles)*len(tails) > maxAlternatives {
			return nil, false
		}
		for _, middle := range middles {
			for _, tail := range tails {
				texts = append(texts, pattern[:start]+middle+tail)
			}
		}
		from = to + 1
	}
	return texts, true
}

// braces finds the first pair of braces and the commas directly within.
func braces(pattern string) (start, end int, commas []int) {
	start = -1
	depth := 0
	for i := 0; i < len(pattern); i++ {
		switch c := pattern[i]; {
		case c == '\\':
			i++
		case c == '[' && depth == 0:
			if close := strings.IndexByte(pattern[i+1:], ']'); close > 0 {
				i += close + 1
			}
		case c == '{':
			if depth++; depth == 1 {
				start = i
			}
		case c == '}' && depth > 0:
			if depth--; depth == 0 {
				return start, i, commas
			}
		case c == ',' && depth == 1:
			commas = append(commas, i)
		}
	}
	return -1, 0, nil
}

func split(pattern string) []name {
	pattern = path.Clean(pattern)
	if pattern == "." {
		return nil // the top folder: all
	}
	var names []name
	for text := range strings.SplitSeq(pattern, "/") {
		names = append(names, nameOf(text))
	}
	return names
}

func nameOf(text string) name {
	rest := strings.Trim(text, "*")
	switch {
	case text == "**":
		return name{deep, ""}
	case !HasMeta(text) && !strings.Contains(text, `\`):
		return name{exact, text}
	case rest == "":
		return name{any, ""}
	case HasMeta(rest) || strings.Contains(rest, `\`):
		return name{wild, text}
	case text == "*"+rest:
		return name{suffix, rest}
	case text == rest+"*":
		return name{prefix, rest}
	}
	return name{wild, text}
}

func (n name) matches(text string) bool {
	switch n.kind {
	case exact:
		return n.text == text
	case any:
		return true
	case suffix:
		return strings.HasSuffix(text, n.text)
	case prefix:
		return strings.HasPrefix(text, n.text)
	}
	return doublestar.MatchUnvalidated(n.text, text)
}

// State is how far the patterns of a set have come on the way down a path. It
// does not change.
type State []uint64 // by way: bit i, the first i names have matched; the last bit, all below matches

const all = 1 << 63

// Start returns the state at the top.
func (s *Set) Start() State {
	st := make(State, len(s.alternatives))
	for i := range s.alternatives {
		st[i] = s.alternatives[i].closure(1)
	}
	return st
}

// Step returns the state one name further down. It reuses the memory of into.
func (s *Set) Step(st State, text string, into State) State {
	into = into[:0]
	for i := range s.alternatives {
		into = append(into, s.alternatives[i].step(st[i], text))
	}
	return into
}

func (w *alternative) step(bits uint64, text string) uint64 {
	if bits == 0 || bits&all != 0 {
		return bits
	}
	var next uint64
	for i := range w.names {
		if bits&(1<<i) == 0 {
			continue
		}
		switch n := &w.names[i]; {
		case n.kind == deep:
			next |= 1 << i
		case n.matches(text):
			next |= 1 << (i + 1)
		}
	}
	return w.closure(next)
}

// closure adds the states that need no further name.
func (w *alternative) closure(bits uint64) uint64 {
	for i := range w.names {
		if bits&(1<<i) != 0 && w.names[i].kind == deep {
			bits |= 1 << (i + 1)
		}
	}
	if bits&(1<<len(w.names)) != 0 {
		bits |= all
	}
	return bits
}

// Matches reports whether the path that led to st is meant.
func (s *Set) Matches(st State) bool {
	for i := len(st) - 1; i >= 0; i-- {
		if st[i]&all != 0 {
			return !s.alternatives[i].not
		}
	}
	return false
}

// Below reports whether something below the path that led to st may be meant.
func (s *Set) Below(st State) bool {
	for i := len(st) - 1; i >= 0; i-- {
		switch {
		case st[i] == 0:
		case !s.alternatives[i].not:
			return true
		case st[i]&all != 0:
			return false
		}
	}
	return false
}

// Exact returns the only names that may lead on from st; ok is false when any
// name may.
func (s *Set) Exact(st State) (names []string, ok bool) {
	for i := range s.alternatives {
		w := &s.alternatives[i]
		if w.not || st[i] == 0 {
			continue
		}
		if st[i]&all != 0 {
			return nil, false
		}
		for k := range w.names {
			if st[i]&(1<<k) == 0 {
				continue
			}
			if w.names[k].kind != exact {
				return nil, false
			}
			names = append(names, w.names[k].text)
		}
	}
	return names, true
}

// Match reports whether a path is meant.
func (s *Set) Match(path string) bool {
	st := s.Start()
	for text := range strings.SplitSeq(path, "/") {
		st = s.Step(st, text, make(State, 0, len(st)))
	}
	return s.Matches(st)
}

// HasMeta reports whether a text has characters that mean something in a pattern.
func HasMeta(text string) bool { return strings.ContainsAny(text, "*?[{") }

var escaper = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`, `]`, `\]`, `{`, `\{`, `}`, `\}`)

// Escape returns the pattern that matches text alone.
func Escape(text string) string {
	if !strings.ContainsAny(text, `\*?[]{}`) {
		return text
	}
	return escaper.Replace(text)
}

// Base returns the folder below which all lies that a pattern matches, and
// whether the pattern is a plain path, which is then its base.
func Base(pattern string) (folder string, plain bool) {
	at := strings.IndexAny(pattern, `*?[{`)
	for at > 0 && pattern[at-1] == '\\' {
		next := strings.IndexAny(pattern[at+1:], `*?[{`)
		if next < 0 {
			at = -1
			break
		}
		at += 1 + next
	}
	if at < 0 {
		return Unescape(pattern), true
	}
	slash := strings.LastIndexByte(pattern[:at], '/')
	return Unescape(pattern[:max(0, slash)]), false
}

// Unescape returns the text that a plain pattern matches.
func Unescape(pattern string) string {
	if !strings.Contains(pattern, `\`) {
		return pattern
	}
	var b strings.Builder
	for i := 0; i < len(pattern); i++ {
		if pattern[i] == '\\' && i+1 < len(pattern) {
			i++
		}
		b.WriteByte(pattern[i])
	}
	return b.String()
}
