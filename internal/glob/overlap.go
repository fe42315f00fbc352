package glob

import (
	"path"
	"strings"
	"unicode/utf8"
)

// Side is a pattern that is held against another one.
type Side struct {
	Pattern string
	// File says that a plain path means a file: only a pattern that begins with it
	// takes it for a folder, and so means something below it.
	File bool
}

// Overlap reports whether some path may be meant by both patterns. A pattern
// of a folder means all below it, so "build" and "build/*.csv" overlap.
func Overlap(a, b string) bool { return Side{Pattern: a}.Overlaps(Side{Pattern: b}) }

// Overlaps is [Overlap] for what is known to be a file.
func (s Side) Overlaps(other Side) bool {
	a, b := s.Pattern, other.Pattern
	if a == b {
		return true
	}
	if isPath(a) && isPath(b) {
		return strings.HasPrefix(a, b+"/") || strings.HasPrefix(b, a+"/")
	}
	openA := !s.File || beginsWith(b, a)
	openB := !other.File || beginsWith(a, b)
	as, bs := ways(a), ways(b)
	for _, x := range as {
		for _, y := range bs {
			if pathsOverlap(x, y, openA, openB) {
				return true
			}
		}
	}
	return false
}

// beginsWith reports whether all that a pattern means lies below a plain path.
func beginsWith(pattern, plain string) bool {
	base, isPlain := Base(pattern)
	plain = Unescape(plain)
	return strings.HasPrefix(base, plain+"/") || !isPlain && base == plain
}

// ways returns the names of each text that the braces of a pattern come to.
func ways(pattern string) [][]name {
	texts, _ := open(pattern)
	all := make([][]name, len(texts))
	for i, text := range texts {
		all[i] = split(text)
	}
	return all
}

// isPath reports whether a pattern is nothing but a clean path.
func isPath(pattern string) bool {
	return !strings.ContainsAny(pattern, `*?[{\`) && pattern == path.Clean(pattern) && pattern != "."
}

// pathsOverlap holds two patterns against each other, name by name. When one of
// them ends that is open, all below is its own.
func pathsOverlap(a, b []name, openA, openB bool) bool {
	for i := 0; i < min(len(a), len(b)) && a[i].kind == exact && b[i].kind == exact; i++ {
		if a[i].text != b[i].text { // most pairs of patterns are told apart by this
			return false
		}
	}
	return walk{
		len(a), len(b), openA, openB,
		func(i int) bool { return a[i].kind == deep },
		func(i int) bool { return b[i].kind == deep },
		func(i, k int) bool { return namesOverlap(a[i], b[k]) },
	}.meet()
}

// walk is a way through two patterns at once.
type walk struct {
	a, b         int  // how many elements they have
	openA, openB bool // its end matches all that is left of the other
	starA, starB func(i int) bool
	meets        func(i, k int) bool // of two elements that are no stars
}

// meet reports whether something matches both, by dynamic programming from
// their ends: a table of whether the rests from i and k on meet.
func (w walk) meet() bool {
	table := make([]bool, (w.a+1)*(w.b+1))
	at := func(i, k int) *bool { return &table[i*(w.b+1)+k] }
	for i := w.a; i >= 0; i-- {
		for k := w.b; k >= 0; k-- {
			endA, endB := i == w.a, k == w.b
			switch {
			case endA && endB, endA && w.openA, endB && w.openB:
				*at(i, k) = true
			case !endA && w.starA(i):
				*at(i, k) = *at(i+1, k) || !endB && *at(i, k+1)
			case !endB && w.starB(k):
				*at(i, k) = *at(i, k+1) || !endA && *at(i+1, k)
			case !endA && !endB:
				*at(i, k) = w.meets(i, k) && *at(i+1, k+1)
			}
		}
	}
	return *at(0, 0)
}

func namesOverlap(a, b name) bool {
	switch {
	case a.kind == any || b.kind == any:
		return true
	case a.kind == exact:
		return b.matches(a.text)
	case b.kind == exact:
		return a.matches(b.text)
	}
	return tokensOverlap(tokens(a), tokens(b))
}

// token is one element of the pattern of a name.
type token struct {
	star bool
	not  bool   // of a range: what it does not hold
	set  []rune // pairs of the first and the last character; none: every one
}

func tokens(n name) []token {
	text := n.text
	switch n.kind {
	case suffix:
		return append([]token{{star: true}}, tokens(name{exact, text})...)
	case prefix:
		return append(tokens(name{exact, text}), token{star: true})
	}
	var out []token
	for len(text) > 0 {
		r, size := utf8.DecodeRuneInString(text)
		switch {
		case n.kind == exact:
			out = append(out, token{set: []rune{r, r}})
		case r == '*':
			out = append(out, token{star: true})
		case r == '?':
			out = append(out, token{})
		case r == '\\' && len(text) > 1:
			r, next := utf8.DecodeRuneInString(text[1:])
			out = append(out, token{set: []rune{r, r}})
			size += next
		case r == '[':
			t, used := class(text)
			out = append(out, t)
			size = used
		default:
			out = append(out, token{set: []rune{r, r}})
		}
		text = text[size:]
	}
	return out
}

// class reads [a-z] at the start of text, as the library does: a backslash takes
// the meaning from the character behind it.
func class(text string) (t token, used int) {
	runes := []rune(text)
	at := 1
	if at < len(runes) && (runes[at] == '!' || runes[at] == '^') {
		t.not = true
		at++
	}
	next := func() rune {
		if runes[at] == '\\' && at+1 < len(runes) {
			at++
		}
		at++
		return runes[at-1]
	}
	for at < len(runes) && runes[at] != ']' {
		from := next()
		to := from
		if at+1 < len(runes) && runes[at] == '-' && runes[at+1] != ']' {
			at++
			to = next()
		}
		t.set = append(t.set, from, to)
	}
	return t, len(string(runes[:min(at+1, len(runes))]))
}

func (t token) holds(r rune) bool {
	in := len(t.set) == 0
	for i := 0; i < len(t.set); i += 2 {
		in = in || t.set[i] <= r && r <= t.set[i+1]
	}
	return in != t.not
}

// meets reports whether some character is in both. The edges of all ranges, and
// what lies beside them, are enough to try.
func (t token) meets(u token) bool {
	for _, edges := range [][]rune{t.set, u.set, {'a'}} {
		for _, edge := range edges {
			for _, r := range []rune{edge - 1, edge, edge + 1} {
				if r > 0 && r != '/' && t.holds(r) && u.holds(r) {
					return true
				}
			}
		}
	}
	return false
}

func tokensOverlap(a, b []token) bool {
	return walk{
		len(a), len(b), false, false,
		func(i int) bool { return a[i].star },
		func(i int) bool { return b[i].star },
		func(i, k int) bool { return a[i].meets(b[k]) },
	}.meet()
}
