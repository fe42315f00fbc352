package plan

import (
	"slices"
	"strings"

	"tugline/internal/project"
)

// Placeholder stands in [Input.Value] for the value of a variable that does not
// count. No value of a variable holds a zero byte.
func Placeholder(name string) string { return "\x00" + name + "\x00" }

// counted returns a value as it counts for a fingerprint. In the text of a
// variable, what refers to the caller's environment, to a secret or to what
// Tugline sets counts as it is written: the text, not the value of another day
// or another machine.
func (sc *scope) counted(name string) (string, bool) {
	if sc.overlaid && !sc.sets(name) {
		return sc.below.counted(name)
	}
	for i, layer := range sc.layers {
		for k := range layer {
			v := &layer[k]
			if _, outside := sc.caller[name]; v.Name != name || v.MustBeSet || v.Default && outside {
				continue
			}
			if v.Fixed || v.Computed() || !strings.Contains(v.Value.Value, "$") || i == 0 && sc.paths[name] {
				return sc.value(name)
			}
			return sc.countedText(v, i)
		}
	}
	return sc.value(name)
}

// countedText fills in the text of a variable of a layer. That it cannot be filled
// in was reported when its value was found.
func (sc *scope) countedText(v *project.Var, layer int) (string, bool) {
	ref := reference{v.Name, layer}
	if slices.Contains(sc.open, ref) {
		return "", true
	}
	sc.open = append(sc.open, ref)
	defer func() { sc.open = sc.open[:len(sc.open)-1] }()
	value, _ := v.Value.Expand(func(name string) (string, bool) {
		if name != v.Name {
			return sc.referred(name)
		}
		for weaker := layer + 1; weaker < len(sc.layers); weaker++ {
			for k := range sc.layers[weaker] {
				if other := &sc.layers[weaker][k]; other.Name == name && !other.MustBeSet {
					return sc.countedText(other, weaker)
				}
			}
		}
		return sc.fromCaller(name)
	})
	return value, true
}

// referred returns what counts of a variable to which the text of another one
// refers.
func (sc *scope) referred(name string) (string, bool) {
	switch {
	case sc.world.secretNames[name]:
		value, set := sc.value(name)
		return placeholderOf(name, value), set
	case sc.isFixed(name):
		return Placeholder(name), true
	case slices.ContainsFunc(sc.layers, func(layer []project.Var) bool {
		return slices.ContainsFunc(layer, func(v project.Var) bool { return v.Name == name })
	}):
		return sc.counted(name)
	}
	return sc.fromCaller(name)
}

// fromCaller returns what counts of a variable that no project file declares:
// the value that an env file gives, but nothing of the caller's.
func (sc *scope) fromCaller(name string) (string, bool) {
	value, set := sc.caller[name]
	if sc.fromEnv[name] {
		value = placeholderOf(name, value)
	}
	return value, set
}

// placeholderOf keeps an empty value, which decides over forms such as ${x:-y}.
func placeholderOf(name, value string) string {
	if value == "" {
		return ""
	}
	return Placeholder(name)
}

// isFixed reports whether Tugline itself sets a variable.
func (sc *scope) isFixed(name string) bool {
	return slices.ContainsFunc(sc.fixed, func(pair string) bool {
		rest, found := strings.CutPrefix(pair, name)
		return found && strings.HasPrefix(rest, "=")
	})
}
