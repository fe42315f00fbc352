package project

import (
	"slices"

	"tugline/internal/toml"
)

// Calls are calls that are made one after the other; those of one entry are
// made at the same time.
type Calls [][]Call

// Kind tells by which key one task names another.
type Kind string

// The keys by which a task names others.
const (
	Needs       Kind = "needs"
	DirectCalls Kind = "calls"
	Then        Kind = "then"
	IfFailed    Kind = "if_failed"
	Finally     Kind = "finally"
	AtEnd       Kind = "at_end"
)

// verb returns what a task does to another one that it names by a key.
func (k Kind) verb() string {
	if k == Needs {
		return "needs"
	}
	return "calls"
}

// AfterCalls are the keys whose calls are made when a task has ended, in the
// order in which they are made, and with which it ends as a whole. Those of AtEnd
// follow, and nothing waits for them.
var AfterCalls = []Kind{Then, IfFailed, Finally}

// Of returns the calls that t makes by a key.
func (t *Task) Of(kind Kind) Calls {
	if kind == Needs {
		return Calls{t.Needs}
	}
	return t.calls[kind]
}

// HasAfterCalls reports whether t makes calls when it has ended.
func (t *Task) HasAfterCalls() bool {
	return len(t.calls[Then])+len(t.calls[IfFailed])+len(t.calls[Finally]) > 0
}

// Composite reports whether what t does is to call others, in order.
func (t *Task) Composite() bool { return len(t.calls[DirectCalls]) > 0 }

// named calls visit for every call that t makes, by whatever key.
func (t *Task) named(visit func(Kind, *Call)) {
	for i := range t.Needs {
		visit(Needs, &t.Needs[i])
	}
	if t.calls == nil {
		return
	}
	for _, kind := range append([]Kind{DirectCalls, AtEnd}, AfterCalls...) {
		for _, entry := range t.calls[kind] {
			for i := range entry {
				visit(kind, &entry[i])
			}
		}
	}
}

// Calls returns every call that t makes, by whatever key.
func (t *Task) Calls() []Call {
	var all []Call
	t.named(func(_ Kind, c *Call) { all = append(all, *c) })
	return all
}

// ordered reads calls that are made one after the other: a call, or a list of
// calls and of lists of calls.
func ordered(kind Kind) func(*decoder, *Task, *toml.Entry) {
	return func(d *decoder, t *Task, e *toml.Entry) {
		calls := d.orderedCalls(e)
		if t.calls == nil {
			t.calls = map[Kind]Calls{}
		}
		t.calls[kind] = calls
	}
}

func (d *decoder) orderedCalls(e *toml.Entry) Calls {
	items := []toml.Value{e.Value}
	if e.Value.Kind == toml.KindList {
		items = e.Value.List.Items
	}
	var calls Calls
	for _, item := range items {
		inner := []toml.Value{item}
		if item.Kind == toml.KindList && e.Value.Kind == toml.KindList {
			inner = item.List.Items
		}
		var entry []Call
		for _, v := range inner {
			if v.Kind != toml.KindText {
				d.report(d.at(v.At), "", "%q must hold calls and lists of calls, not %s", e.Key, v.Kind)
				continue
			}
			if c, ok := d.parseCall(e.Key, Text{v.Text, d.at(v.At)}); ok {
				entry = append(entry, c)
			}
		}
		if len(entry) > 0 {
			calls = append(calls, entry)
		}
	}
	if len(items) == 0 {
		d.report(d.at(e.Value.At), "", "%q holds no call", e.Key)
	}
	d.checkTwice(e.Key, calls)
	return calls
}

// checkTwice reports a call that stands twice in one list: it would be made once.
func (d *decoder) checkTwice(key string, calls Calls) {
	seen := map[string]Span{}
	for _, entry := range calls {
		for _, c := range entry {
			if first, twice := seen[c.Text]; twice {
				d.found = append(d.found, Diagnostic{
					Span: c.Span, Msg: "the call \"" + c.Text + "\" stands twice in \"" + key + "\"", Hint: "the same call is made once in a run",
					Related: []Diagnostic{{Span: first, Msg: "it stands here already"}},
				})
			}
			seen[c.Text] = c.Span
		}
	}
}

// plainKeys are those of most tasks: they go together.
var plainKeys = []string{"run", "about", "needs", "reads", "writes", "env"}

// checkCompose reports keys of a task that do not go together.
func (d *decoder) checkCompose(t *Task, keys *toml.Table) {
	if len(d.file.skipped) > 0 {
		return
	}
	plain := func(e *toml.Entry) bool { return slices.Contains(plainKeys, e.Key) }
	if len(t.Run) > 0 && !slices.ContainsFunc(keys.Entries, func(e *toml.Entry) bool { return !plain(e) }) {
		return
	}
	has := func(key string) bool { return keys.Get(key) != nil }
	report := func(key, hint, format string, args ...any) { d.report(d.at(keys.Get(key).At), hint, format, args...) }
	if has("calls") && (has("run") || has("os")) {
		report("calls", "let it call a task that runs the commands", "task %q has commands, so it cannot have \"calls\"", t.Name)
	}
	for _, key := range []string{"retry", "timeout", "terminal"} {
		if has(key) && t.IsGroup() {
			report(key, `it goes with "run"`, "%q has nothing to try in task %q", key, t.Name)
		}
	}
	for _, key := range []string{"depfile", "clear_writes"} {
		if has(key) && t.IsGroup() {
			report(key, `it goes with "run"`, "%q has nothing to tell in task %q, which runs no commands", key, t.Name)
		}
	}
	if has("hold_until") && t.IsGroup() && !t.Composite() {
		report("hold_until", `it goes with "run" and "calls"`, "\"hold_until\" has nothing to hold in task %q", t.Name)
	}
	for _, key := range []string{"reads", "writes"} {
		if has(key) && t.Composite() {
			report(key, "the tasks that it calls say what they read and write", "task %q has \"calls\", so it cannot have %q", t.Name, key)
		}
	}
	d.checkService(t, has, report)
	if has("at_once") && !has("each") {
		report("at_once", `it goes with "each"`, "\"at_once\" has nothing to bound in task %q", t.Name)
	}
	if has("after_failure") && !t.Composite() && !has("each") {
		report("after_failure", `it goes with "calls" and "each"`, "\"after_failure\" has nothing to say in task %q", t.Name)
	}
	if !slices.ContainsFunc([]string{"run", "needs", "os", "calls", "then", "if_failed", "finally", "serve"}, has) {
		d.report(t.Span, `give it "run", "calls" or "needs"`, "task %q does nothing", t.Name)
	}
}
