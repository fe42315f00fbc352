package glob

import "path"

// Union is many patterns, none of which takes away. Whether one of them means a
// path is quickly told, even of ten thousand.
type Union struct {
	plain map[string]bool // paths; they mean all below
	below map[string]*Set // the others, by the folder with which they begin
}

// NewUnion returns the union of patterns. The error is that of [Compile].
func NewUnion(patterns []string) (*Union, error) {
	u := &Union{plain: map[string]bool{}, below: map[string]*Set{}}
	others := map[string][]Pattern{}
	for _, text := range patterns {
		base, plain := Base(text)
		base = path.Clean(base)
		if plain {
			u.plain[base] = true
		} else {
			others[base] = append(others[base], Pattern{Text: text})
		}
	}
	for base, list := range others {
		set, err := Compile(list)
		if err != nil {
			return nil, err
		}
		u.below[base] = set
	}
	return u, nil
}

// Match reports whether a path is meant.
func (u *Union) Match(p string) bool {
	for up := p; ; up = path.Dir(up) {
		if u.plain[up] {
			return true
		}
		if set := u.below[up]; set != nil && set.Match(p) {
			return true
		}
		if up == "." {
			return false
		}
	}
}
