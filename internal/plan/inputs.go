package plan

import (
	"maps"
	"slices"
	"strings"

	"tugline/internal/project"
)

// Input is a value that a step depends on, besides its commands and files.
type Input struct {
	Kind   string // argument, word (behind --), path (a named one), or variable
	Name   string
	Value  string // with a [Placeholder] for each variable whose value does not count
	Unset  bool   // a variable that it reads and that is not set
	Secret bool   // Value must not be shown, nor kept as it is
}

// Inputs returns the values that s depends on, in a fixed order: its arguments
// and named paths; the variables that the files and the task declare, but for computed and
// required ones to which it does not refer; and what it says that it reads. With reads_env,
// of the others only those that its texts mention and those that it declares. A secret counts
// only if it is read. It is not to be called from several goroutines at once.
func (s *Step) Inputs() []Input {
	var inputs []Input
	for _, v := range s.args {
		inputs = append(inputs, Input{Kind: "argument", Name: v.Name, Value: v.Value.Value})
	}
	for _, w := range s.Rest {
		inputs = append(inputs, Input{Kind: "word", Name: "--", Value: w})
	}
	for _, name := range slices.Sorted(maps.Keys(s.scope.paths)) {
		value, _ := s.scope.value(name)
		inputs = append(inputs, Input{Kind: "path", Name: name, Value: value})
	}
	names := map[string]bool{}
	for _, pair := range s.computed {
		name, _, _ := strings.Cut(pair, "=")
		names[name] = true
	}
	for _, name := range s.outside {
		names[name] = true
	}
	uncounted := map[string]bool{}
	for i, layer := range s.scope.layers {
		for k := range layer {
			s.counts(i, &layer[k], names, uncounted)
		}
	}
	for name := range uncounted {
		delete(names, name)
	}
	if s.Task.OnlyEnv {
		s.keepUsed(names)
	}
	read := map[string]bool{}
	for _, n := range s.Task.ReadsEnv {
		names[n.Value], read[n.Value] = true, true
	}
	sorted := make([]string, 0, len(names))
	for name := range names {
		sorted = append(sorted, name)
	}
	slices.Sort(sorted)
	for _, name := range sorted {
		secret := s.scope.world.secretNames[name]
		if secret && !read[name] {
			continue
		}
		find := s.scope.counted
		if read[name] {
			find = s.scope.value
		}
		value, set := find(name)
		inputs = append(inputs, Input{Kind: "variable", Name: name, Value: value, Unset: !set, Secret: secret})
	}
	return inputs
}

// keepUsed takes out of names those that no text of s mentions and that its task does not
// declare.
func (s *Step) keepUsed(names map[string]bool) {
	used := map[string]bool{}
	s.mentions(func(name string, _ *project.Text) { used[name] = true })
	for _, v := range s.Task.Env {
		used[v.Name] = true
	}
	maps.DeleteFunc(names, func(name string, _ bool) bool { return !used[name] })
}

// counts notes whether a variable of a layer is one that s depends on.
func (s *Step) counts(layer int, v *project.Var, names, uncounted map[string]bool) {
	isArg := func(a project.Var) bool { return a.Name == v.Name }
	switch {
	case layer == 0 && (s.scope.paths[v.Name] || slices.ContainsFunc(s.args, isArg)):
	case v.NotCounted:
		uncounted[v.Name] = true
	case v.MustBeSet, s.scope.late(v.Name):
	case v.Fixed && v.Span.IsZero() && !s.declares(v.Name):
		// --set of a name that no file knows: it counts if s refers to it.
		if s.refersTo(v.Name) {
			names[v.Name] = true
		}
	default:
		names[v.Name] = true
	}
}

// declares reports whether a project file gives a value to a variable.
func (s *Step) declares(name string) bool {
	for _, layer := range s.scope.layers {
		for i := range layer {
			if layer[i].Name == name && !layer[i].Span.IsZero() {
				return true
			}
		}
	}
	return false
}

func (s *Step) refersTo(name string) bool {
	for i := range s.Run {
		if slices.Contains(project.RefersInScript(s.Run[i].Value, s.Task.Shell), name) {
			return true
		}
	}
	return false
}
