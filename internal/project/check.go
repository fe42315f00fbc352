package project

import (
	"fmt"
	"slices"
	"strings"
)

// register enters all names and aliases of the file, and reports those taken
// twice.
func (d *decoder) register() {
	f := d.file
	f.byName = make(map[string]*Task, len(f.Tasks))
	enter := func(t *Task, name string, span Span, what string) {
		owner, taken := f.byName[name]
		if !taken {
			f.byName[name] = t
			return
		}
		place := owner.Span
		for _, alias := range owner.Aliases {
			if alias.Value == name && alias.Span != span {
				place = alias.Span
			}
		}
		d.found = append(d.found, Diagnostic{
			Span:    span,
			Msg:     fmt.Sprintf("the %s %q of task %q is taken", what, name, t.Name),
			Related: []Diagnostic{{Span: place, Msg: fmt.Sprintf("it belongs to task %q", owner.Name)}},
		})
	}
	for _, t := range f.Tasks {
		enter(t, t.OwnName, t.Span, "name")
	}
	for _, t := range f.Tasks {
		for _, alias := range t.Aliases {
			enter(t, alias.Value, alias.Span, "alias")
		}
	}
}

// checker looks at what holds between the tasks of a project.
type checker struct {
	project *Project
	diagnostics
}

// calls finds the task of every call, and reports what is wrong with the calls.
func (c *checker) calls() {
	for _, f := range c.project.Files {
		for i := range f.Default {
			c.call(f, &f.Default[i], func() string { return "the default task is" })
		}
	}
	for _, t := range c.project.Tasks {
		t.named(func(kind Kind, call *Call) {
			c.call(t.File, call, func() string { return fmt.Sprintf("task %q %s", t.Name, kind.verb()) })
		})
	}
}

// call finds the task of one call in f. who begins the sentence of a report.
func (c *checker) call(f *File, call *Call, who func() string) {
	t, unsure := f.lookup(call.Name)
	switch {
	case t != nil && t.Absent != "":
		call.Task = t
	case t != nil:
		call.Task = t
		if len(t.Args) > 0 || len(call.Args) > 0 || len(call.Rest) > 0 {
			c.found = append(c.found, t.CheckCall(*call)...)
		}
	case !unsure:
		c.report(call.Span, Suggest(f.Near(call.Name)), "%s %q, but there is no such task", who(), call.Name)
	}
}

// cycles reports every cycle that a walk through the needs and calls meets,
// each with all of its steps.
func (c *checker) cycles() {
	const (
		fresh = iota
		open  // on the path that is walked now
		done
	)
	state := make([]uint8, len(c.project.Tasks))
	var path []*Call // the calls that lead to the open tasks but the first
	var kinds []Kind // by which key each of them is made
	var walk func(t *Task)
	walk = func(t *Task) {
		state[t.Index] = open
		t.named(func(kind Kind, call *Call) {
			if call.Task == nil || call.Task.Absent != "" {
				return
			}
			path, kinds = append(path, call), append(kinds, kind)
			switch state[call.Task.Index] {
			case fresh:
				walk(call.Task)
			case open:
				c.cycle(call.Task, path, kinds)
			}
			path, kinds = path[:len(path)-1], kinds[:len(kinds)-1]
		})
		state[t.Index] = done
	}
	for _, t := range c.project.Tasks {
		if state[t.Index] == fresh {
			walk(t)
		}
	}
}

// cycle reports the cycle that ends path and comes back to start.
func (c *checker) cycle(start *Task, path []*Call, kinds []Kind) {
	from := len(path) - 1
	for from > 0 && path[from-1].Task != start {
		from--
	}
	names := []string{start.Name}
	var places []Diagnostic
	for i, call := range path[from:] {
		places = append(places, Diagnostic{Span: call.Span, Msg: fmt.Sprintf("%q %s %q", names[i], kinds[from+i].verb(), call.Task.Name)})
		names = append(names, call.Task.Name)
	}
	what := "tasks call each other in a circle"
	if !slices.ContainsFunc(kinds[from:], func(k Kind) bool { return k != Needs }) {
		what = "tasks need each other in a circle"
	}
	c.circle(what, fmt.Sprintf("task %q %s itself", start.Name, kinds[from].verb()), names, places)
}

// circle reports a circle: names has its members, with the first one again at
// the end, places where each leads to the next. self is said of a circle of one.
func (c *checker) circle(what, self string, names []string, places []Diagnostic) {
	found := Diagnostic{Span: places[0].Span, Msg: what + ": " + strings.Join(names, " → "), Related: places}
	if len(places) == 1 {
		found.Msg, found.Related = self, nil
	}
	c.found = append(c.found, found)
}
