package project

import (
	"bytes"
	"fmt"
	"slices"
	"sort"
	"strings"
)

// Task returns the task that a name, or an alias, means in f: in f itself, with
// the name of a part before it in that part, with a / before it at the top. It
// returns nil when there is none. A task of an optional part that is not there
// has a text in Absent.
func (f *File) Task(name string) *Task {
	t, _ := f.lookup(name)
	return t
}

// lookup is Task; unsure says that there may be such a task in what could not
// be read.
func (f *File) lookup(name string) (t *Task, unsure bool) {
	if rest, fromTop := strings.CutPrefix(name, "/"); fromTop {
		f, name = f.top(), rest
	}
	for {
		first, rest, below := strings.Cut(name, "/")
		if !below {
			t := f.byName[name]
			return t, t == nil && bytes.Contains(f.skipped, []byte(name))
		}
		part := f.part(first)
		switch {
		case part == nil:
			return nil, bytes.Contains(f.skipped, []byte(first))
		case part.File == nil && part.Optional && !part.broken:
			return part.absentTask(f, rest), false
		case part.File == nil:
			return nil, true
		}
		f, name = part.File, rest
	}
}

func (f *File) top() *File {
	for f.Parent != nil {
		f = f.Parent
	}
	return f
}

func (f *File) part(name string) *Part {
	for _, p := range f.Parts {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// absentTask returns what stands for a task of a part that is not there.
func (p *Part) absentTask(in *File, name string) *Task {
	if t := p.absent[name]; t != nil {
		return t
	}
	if p.absent == nil {
		p.absent = map[string]*Task{}
	}
	t := &Task{
		Name: in.Prefix + p.Name + "/" + name, OwnName: name, Span: p.Span, File: in,
		Absent: fmt.Sprintf("the optional part %q does not exist", in.Prefix+p.Name),
	}
	p.absent[name] = t
	return t
}

// Names returns the names and aliases of all tasks as they are called in f,
// those of its parts among them, sorted.
func (f *File) Names() []string {
	names := f.names("", nil, map[*File]bool{})
	sort.Strings(names)
	return names
}

func (f *File) names(prefix string, names []string, seen map[*File]bool) []string {
	if seen[f] {
		return names
	}
	seen[f] = true
	for name := range f.byName {
		names = append(names, prefix+name)
	}
	for _, p := range f.Parts {
		if p.File != nil {
			names = p.File.names(prefix+p.Name+"/", names, seen)
		}
	}
	return names
}

// Near returns the names, as they are called in f, of which name may be a slip
// or which a user may have left incomplete, the nearest first.
func (f *File) Near(name string) []string {
	if rest, fromTop := strings.CutPrefix(name, "/"); fromTop {
		near := f.top().Near(rest)
		for i, n := range near {
			near[i] = "/" + n
		}
		return near
	}
	if f.Parent != nil && f.top().Task(name) != nil {
		return []string{"/" + name}
	}
	names := f.Names()
	var below []string
	for _, n := range names {
		if strings.HasSuffix(n, "/"+name) {
			below = append(below, n)
		}
	}
	if len(below) > 0 {
		return below[:min(3, len(below))]
	}
	near := Nearest(name, names)
	if len(near) == 0 && f.Parent != nil {
		return f.Near("/" + name)
	}
	return near
}

// NameOf returns how t is called in f.
func (f *File) NameOf(t *Task) string {
	if own, inside := strings.CutPrefix(t.Name, f.Prefix); inside {
		return own
	}
	return "/" + t.Name
}

// FileAt returns the file of p that stands at path; nil if none does.
func (p *Project) FileAt(path string) *File {
	at := slices.IndexFunc(p.Files, func(f *File) bool { return f.Source.Path == path || identity(f.Source.Path) == identity(path) })
	if at < 0 {
		return nil
	}
	return p.Files[at]
}
