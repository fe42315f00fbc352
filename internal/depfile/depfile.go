// Package depfile reads the lists of files that programs write of what they read.
package depfile

import (
	"errors"
	"fmt"
	"strings"
)

// ErrBinary says that a text is no list of files.
var ErrBinary = errors.New("it holds a zero byte, so it is no list of files")

// Parse returns the paths that a text lists, each once, in their order. The text is
// either rules as POSIX make has them and compilers write them, "TARGET…: PATH…", or a
// path a line. In rules, a line goes on behind a backslash; a backslash keeps a space, a #
// or a colon as it is, and $$ is a dollar. Targets are left out, and so are rules without
// paths, which compilers add for files that may go. The error is [ErrBinary], or names the
// line that is no rule.
func Parse(text string) ([]string, error) {
	if strings.Contains(text, "\x00") {
		return nil, ErrBinary
	}
	text = strings.ReplaceAll(text, "\r\n", "\n")
	rules := joined(text)
	isMake := false
	for _, r := range rules {
		_, _, is := r.cut()
		isMake = isMake || is
	}
	var paths []string
	seen := map[string]bool{}
	add := func(path string) {
		if path != "" && !seen[path] {
			seen[path] = true
			paths = append(paths, path)
		}
	}
	if !isMake {
		for line := range strings.Lines(text) {
			add(strings.TrimSpace(line))
		}
		return paths, nil
	}
	for _, r := range rules {
		_, rest, is := r.cut()
		if !is && strings.TrimSpace(r.text) != "" {
			return nil, fmt.Errorf("line %d is no rule: it has no colon", r.number)
		}
		for _, word := range words(rest) {
			if word != "|" {
				add(word)
			}
		}
	}
	return paths, nil
}

// line is a line with those that it goes on in.
type line struct {
	text   string
	number int // of the first, from 1
}

// joined returns the lines of a text, without comments. Where one ends with an odd
// number of backslashes, the next one goes on.
func joined(text string) []line {
	var lines []line
	goesOn := false
	for number, part := range strings.Split(text, "\n") {
		if !goesOn && strings.HasPrefix(strings.TrimSpace(part), "#") {
			continue
		}
		bare := strings.TrimRight(part, "\\")
		more := (len(part)-len(bare))%2 == 1
		if more {
			part = part[:len(part)-1]
		}
		if goesOn {
			lines[len(lines)-1].text += " " + part
		} else {
			lines = append(lines, line{part, number + 1})
		}
		goesOn = more
	}
	return lines
}

// cut parts a rule at its colon: the first one behind which there is a space or nothing,
// and that no backslash keeps. So the colon of a drive is none.
func (l line) cut() (targets, paths string, found bool) {
	for i := range len(l.text) {
		if l.text[i] != ':' || i > 0 && l.text[i-1] == '\\' {
			continue
		}
		rest := strings.TrimPrefix(l.text[i+1:], ":")
		if rest == "" || rest[0] == ' ' || rest[0] == '\t' {
			return l.text[:i], rest, true
		}
	}
	return "", "", false
}

// words parts the paths of a rule. Backslashes count only before what they keep: those of
// a path with backslashes stay.
func words(text string) []string {
	var all []string
	var word strings.Builder
	end := func() {
		if word.Len() > 0 {
			all = append(all, word.String())
			word.Reset()
		}
	}
	for i := 0; i < len(text); i++ {
		switch c := text[i]; c {
		case ' ', '\t':
			end()
		case '\\':
			n := 1
			for i+n < len(text) && text[i+n] == '\\' {
				n++
			}
			next := byte(0)
			if i+n < len(text) {
				next = text[i+n]
			}
			i += n - 1
			if next == ' ' || next == '#' || next == ':' {
				word.WriteString(strings.Repeat("\\", n/2))
				if n%2 == 1 {
					word.WriteByte(next)
					i++
				}
				continue
			}
			word.WriteString(strings.Repeat("\\", n))
		case '$':
			if i+1 < len(text) && text[i+1] == '$' {
				i++
			}
			word.WriteByte('$')
		default:
			word.WriteByte(c)
		}
	}
	end()
	return all
}
