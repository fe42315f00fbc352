package glob

import (
	"path"
	"strings"
)

// Sets are many sets of patterns, of which each may take away from its own. Which
// of them may mean a path is quickly told, even of ten thousand.
type Sets struct {
	below map[string][]*Set // by the folders with which their patterns begin
	above map[string]bool   // the folders that lead to those
}

// NewSets returns the sets of some lists of patterns. The error is that of [Compile].
func NewSets(lists [][]Pattern) (*Sets, error) {
	s := &Sets{below: map[string][]*Set{}, above: map[string]bool{}}
	seen := map[string]bool{}
	for _, list := range lists {
		key := listKey(list)
		if seen[key] {
			continue
		}
		seen[key] = true
		set, err := Compile(list)
		if err != nil {
			return nil, err
		}
		bases := map[string]bool{}
		for _, p := range list {
			if base, _ := Base(p.Text); !p.Not && !bases[path.Clean(base)] {
				base = path.Clean(base)
				bases[base] = true
				s.below[base] = append(s.below[base], set)
				for up := parent(base); up != "" && !s.above[up]; up = parent(up) {
					s.above[up] = true
				}
			}
		}
	}
	return s, nil
}

func listKey(list []Pattern) string {
	var b strings.Builder
	for _, p := range list {
		if p.Not {
			b.WriteByte('!')
		}
		b.WriteString(p.Text)
		b.WriteByte(0)
	}
	return b.String()
}

// parent returns the folder in which a clean relative path lies; empty: the paths
// of this tree do not lead there.
func parent(p string) string {
	if p == "." || p == ".." || strings.HasSuffix(p, "/..") {
		return ""
	}
	return path.Dir(p)
}

// Roots returns the folders with which a walk begins that finds all that is meant:
// the top, and those above it to which patterns lead.
func (s *Sets) Roots() []string {
	roots := []string{"."}
	for up := ".."; ; up += "/.." {
		found := false
		for p := range s.below {
			found = found || p == up || strings.HasPrefix(p, up+"/")
		}
		if !found {
			return roots
		}
		roots = append(roots, up)
	}
}

// Match reports whether a set means a path, which is clean.
func (s *Sets) Match(p string) bool {
	for up := p; up != ""; up = parent(up) {
		for _, set := range s.below[up] {
			if set.Match(p) {
				return true
			}
		}
	}
	return false
}

// Below reports whether a set may mean something below a folder, whose path is
// clean. Where link is true, the folder is a link, which only a pattern follows
// that names it without wildcards.
func (s *Sets) Below(p string, link bool) bool {
	if s.above[p] {
		return true
	}
	for up := p; up != ""; up = parent(up) {
		for _, set := range s.below[up] {
			if set.leadsBelow(p, link) {
				return true
			}
		}
	}
	return false
}

// leadsBelow reports whether something below a folder may be meant.
func (s *Set) leadsBelow(p string, link bool) bool {
	st := s.Start()
	before, name := st, ""
	for text := range strings.SplitSeq(p, "/") {
		if text == "." {
			continue
		}
		before, name = st, text
		st = s.Step(st, text, make(State, 0, len(st)))
	}
	return s.Below(st) && (!link || s.names(before, name))
}

// names reports whether a pattern names text without wildcards after st.
func (s *Set) names(st State, text string) bool {
	for i := range s.alternatives {
		w := &s.alternatives[i]
		for k := range w.names {
			if !w.not && st[i]&(1<<k) != 0 && w.names[k].kind == exact && w.names[k].text == text {
				return true
			}
		}
	}
	return false
}
