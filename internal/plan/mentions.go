package plan

import (
	"runtime"
	"slices"

	"tugline/internal/glob"
	"tugline/internal/project"
)

// Mention is a task that names a file in what it reads or writes.
type Mention struct {
	Task *project.Task
	Call string // the task, or the instance of it
	Glob Glob
}

// Written returns the patterns of all that the tasks of p may write; what is
// not known of a value counts as *.
func Written(p *project.Project, req Request) []Glob {
	b := newBuilder(p, req)
	var all []Glob
	for _, t := range p.Tasks {
		for _, v := range b.known(t) {
			for _, g := range b.unfilled(t, t.Writes, v.values) {
				if !g.Not {
					all = append(all, g)
				}
			}
		}
	}
	return all
}

// MayWrite reports whether a task of p may write the file at a path, relative to the top
// folder. Values count as "*", whatever they are, so nothing is asked or computed.
func MayWrite(p *project.Project, path string) bool {
	b := newBuilder(p, Request{NoCompute: true, OS: runtime.GOOS, Arch: runtime.GOARCH})
	return slices.ContainsFunc(p.Tasks, func(t *project.Task) bool { return matching(b.unfilled(t, t.Writes, nil), path) != nil })
}

// EachValues returns the values of each of a task under a name, as far as they are known
// without running anything.
func EachValues(p *project.Project, req Request, t *project.Task, name string) []string {
	req.NoCompute = true
	b := newBuilder(p, req)
	arg := t.Arg(name)
	if arg == nil || arg.Each == nil || b.unknown(arg.Each, t) {
		return nil
	}
	return b.valuesOf(arg.Each)
}

// known returns the instances of t, as far as they are known: one without
// values stands for all that are not.
func (b *builder) known(t *project.Task) []variant {
	if len(t.Reads)+len(t.Writes) == 0 {
		return nil
	}
	if all := b.variants(t); all != nil {
		return all
	}
	return []variant{{call: project.Call{Text: t.Name}}}
}

// Mentions returns the tasks that may make the file at a path, relative to the
// top folder, and those that may read it.
func Mentions(p *project.Project, req Request, path string) (makes, reads []Mention) {
	b := newBuilder(p, req)
	for _, t := range p.Tasks {
		for _, v := range b.known(t) {
			if g := matching(b.unfilled(t, t.Writes, v.values), path); g != nil {
				makes = append(makes, Mention{t, v.call.Text, *g})
			}
			if g := matching(b.unfilled(t, t.Reads, v.values), path); g != nil {
				reads = append(reads, Mention{t, v.call.Text, *g})
			}
		}
	}
	return makes, reads
}

// matching returns the glob for which a list means a path; nil if it does not.
func matching(globs []Glob, path string) *Glob {
	set, err := glob.Compile(Patterns(globs))
	if err != nil || !set.Match(path) {
		return nil
	}
	for i := range globs {
		if one, err := glob.Compile([]glob.Pattern{{Text: globs[i].Pattern}}); err == nil && !globs[i].Not && one.Match(path) {
			return &globs[i]
		}
	}
	return nil
}
