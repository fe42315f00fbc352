package project

import (
	"bytes"
	"fmt"
	"strings"
)

// register enters all names and aliases, and reports those taken twice.
func (d *decoder) register() {
	d.project.byName = make(map[string]*Task, len(d.project.Tasks))
	enter := func(t *Task, name string, span Span, what string) {
		owner, taken := d.project.byName[name]
		if !taken {
			d.project.byName[name] = t
			return
		}
		place := owner.Span
		for _, alias := range owner.Aliases {
			if alias.Value == name && alias.Span != span {
				place = alias.Span
			}
		}
		d.diagnostics = append(d.diagnostics, Diagnostic{
			Span:    span,
			Msg:     fmt.Sprintf("the %s %q of task %q is taken", what, name, t.Name),
			Related: []Diagnostic{{Span: place, Msg: fmt.Sprintf("it belongs to task %q", owner.Name)}},
		})
	}
	for _, t := range d.project.Tasks {
		enter(t, t.Name, t.Span, "name")
	}
	for _, t := range d.project.Tasks {
		for _, alias := range t.Aliases {
			enter(t, alias.Value, alias.Span, "alias")
		}
	}
}

// checkCalls reports calls of tasks that do not exist.
func (d *decoder) checkCalls() {
	missing := func(c Call, who string) {
		if bytes.Contains(d.skipped, []byte(c.Name)) {
			return // it may be defined where the file could not be read
		}
		d.report(c.Span, DidYouMean(c.Name, d.project.Names()), "%s %q, but there is no such task", who, c.Name)
	}
	for _, c := range d.project.Default {
		if t := d.project.byName[c.Name]; t == nil {
			missing(c, "the default task is")
		} else {
			d.checkCallArgs(c, t)
		}
	}
	for _, owner := range d.project.Tasks {
		for _, c := range owner.Needs {
			if t := d.project.byName[c.Name]; t == nil {
				missing(c, fmt.Sprintf("task %q needs", owner.Name))
			} else if len(t.Args) > 0 || len(c.Args) > 0 || len(c.Rest) > 0 {
				d.checkCallArgs(c, t)
			}
		}
	}
}

// checkCycles reports every cycle that a walk through the needs meets, each
// with all of its steps.
func (d *decoder) checkCycles() {
	const (
		fresh = iota
		open  // on the path that is walked now
		done
	)
	state := make(map[*Task]int, len(d.project.Tasks))
	var path []Call // the calls that lead to the open tasks but the first
	var walk func(t *Task)
	walk = func(t *Task) {
		state[t] = open
		for _, c := range t.Needs {
			next := d.project.byName[c.Name]
			if next == nil {
				continue
			}
			path = append(path, c)
			switch state[next] {
			case fresh:
				walk(next)
			case open:
				d.cycle(next, path)
			}
			path = path[:len(path)-1]
		}
		state[t] = done
	}
	for _, t := range d.project.Tasks {
		if state[t] == fresh {
			walk(t)
		}
	}
}

// cycle reports the cycle that ends path and comes back to start.
func (d *decoder) cycle(start *Task, path []Call) {
	from := len(path) - 1
	for from > 0 && d.project.byName[path[from-1].Name] != start {
		from--
	}
	steps := path[from:]
	names := []string{start.Name}
	var places []Diagnostic
	for i, c := range steps {
		next := d.project.byName[c.Name].Name
		places = append(places, Diagnostic{Span: c.Span, Msg: fmt.Sprintf("%q needs %q", names[i], next)})
		names = append(names, next)
	}
	cycle := Diagnostic{Span: places[0].Span, Msg: "tasks need each other in a circle: " + strings.Join(names, " → "), Related: places}
	if len(places) == 1 {
		cycle.Msg, cycle.Related = fmt.Sprintf("task %q needs itself", start.Name), nil
	}
	d.diagnostics = append(d.diagnostics, cycle)
}
