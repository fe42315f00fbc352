package plan

import (
	"fmt"
	"slices"

	"tugline/internal/project"
)

// Role tells what a step stands for.
type Role int

// The roles of steps. A task that only runs commands has a Body and no more.
const (
	Body    Role = iota // the commands of a task, or a group of what it needs
	Start               // of a task with calls: it ends when they may start
	Outcome             // of a task with calls or instances: it ends with them, and tells how
	End                 // of a task with after-calls: it ends with them
)

// FailureScope is a part of a plan in which a failure has its own effect.
type FailureScope struct {
	After string        // as project.AfterFailure
	Outer *FailureScope // nil: the whole run
}

// Works reports whether s has commands to run.
func (s *Step) Works() bool { return s.Role == Body && !s.Task.IsGroup() }

// Stays reports whether s is a service: what it runs keeps running.
func (s *Step) Stays() bool { return s.Works() && s.Task.Service != nil }

// Services returns the services that s uses: those that it needs, itself or by
// groups, and those that they use, which come first.
func (s *Step) Services() []*Step {
	var all []*Step
	seen := map[*Step]bool{}
	var follow func(s *Step)
	follow = func(s *Step) {
		for _, others := range [][]*Step{s.Needs, s.Called} {
			for _, other := range others {
				if seen[other] || other.Works() && !other.Stays() {
					continue
				}
				seen[other] = true
				follow(other)
				if other.Stays() {
					all = append(all, other)
				}
			}
		}
		if s.Previous != nil && !seen[s.Previous] {
			seen[s.Previous] = true
			follow(s.Previous)
		}
	}
	follow(s)
	return all
}

// Asked returns the services that are asked for by name: they stay. They are those
// that the request names, itself or by groups of needs, and the last calls of a task
// that calls others if all of these are services.
func (p *Plan) Asked() map[*Step]bool {
	asked := map[*Step]bool{}
	var follow func(s *Step)
	follow = func(s *Step) {
		switch {
		case s.Stays():
			asked[s] = true
		case s.Role == End:
			follow(s.Previous)
		case s.Role == Outcome && s.Previous != nil: // of a task with calls
			last := s.lastCalls()
			if !slices.ContainsFunc(last, func(c *Step) bool { return !c.Stays() }) {
				for _, c := range last {
					follow(c)
				}
			}
		case s.Role == Outcome: // of a task with instances
			for _, c := range s.Called {
				follow(c)
			}
		case !s.Works():
			for _, need := range s.Needs {
				follow(need)
			}
		}
	}
	for _, s := range p.requested {
		follow(s)
	}
	return asked
}

// lastCalls returns the calls of an Outcome that no other one of its calls waits for.
func (s *Step) lastCalls() []*Step {
	var last []*Step
	for _, c := range s.Called {
		needed := func(other *Step) bool { return slices.Contains(other.First().Needs, c) }
		if !slices.ContainsFunc(s.Called, needed) {
			last = append(last, c)
		}
	}
	return last
}

// CalledBy tells whose after-call s is, such as "finally of deploy"; empty if it
// is none.
func (s *Step) CalledBy() string {
	if s.CalledFor == nil {
		return ""
	}
	owner := s.CalledFor.Owners[0].Name
	if len(s.CalledFor.Owners) > 1 {
		owner = s.CalledFor.Owners[0].Task.Name
	}
	return string(s.CalledFor.Kind) + " of " + owner
}

// WaitsFor calls visit with every step that must have ended before s starts.
func (s *Step) WaitsFor(visit func(*Step)) {
	for _, others := range [][]*Step{s.Needs, s.After, s.AfterEnd} {
		for _, other := range others {
			visit(other)
		}
	}
	if len(s.Triggers) == 1 { // of several, one is enough
		for _, other := range s.Triggers[0].Owners {
			visit(other)
		}
	}
}

// end returns the step with whose end all has ended that belongs to s.
func (s *Step) end() *Step {
	if s.Last != nil {
		return s.Last
	}
	return s
}

// callSite tells where a call is made.
type callSite struct {
	trigger  *Trigger // when what it brings in is wanted; nil: in any case
	owner    *Trigger // for which it is made alone; nil: it is shared by the whole run
	failures *FailureScope
	looped   bool // as an instance, whose after-calls are made by the loop
	limited  bool // as one of the instances of a task, of which only some may run at once
}

func (in callSite) level() Level {
	if in.trigger == nil {
		return Ordinary
	}
	return in.trigger.Level
}

// want notes that s, which is in the plan, is called from another place, too.
func (b *builder) want(s *Step, in callSite) {
	by, scope := in.trigger, commonFailureScope(s.FailureScope, in.failures)
	known := s.wanted || by != nil && slices.Contains(s.Triggers, by)
	switch {
	case known && scope == s.FailureScope:
		return
	case known:
	case by == nil:
		s.wanted, s.Triggers = true, nil
	default:
		s.Triggers = append(s.Triggers, by)
	}
	s.FailureScope = scope
	for _, others := range [][]*Step{s.Needs[:s.ownNeeds], s.alsoWants} {
		for _, other := range others {
			b.want(other, in)
		}
	}
}

// commonFailureScope returns the innermost one in which both a and b lie.
func commonFailureScope(a, b *FailureScope) *FailureScope {
	for ; a != nil; a = a.Outer {
		for other := b; other != nil; other = other.Outer {
			if other == a {
				return a
			}
		}
	}
	return nil
}

// compose adds, behind the first step of a call, the calls that it makes and
// the steps that end with them. It returns the last one.
func (b *builder) compose(first *Step, in callSite) *Step {
	t, end := first.Task, first
	if t.Composite() {
		scope := in.failures
		if t.After != "" {
			scope = &FailureScope{t.After, in.failures}
		}
		inner := callSite{trigger: &Trigger{project.DirectCalls, []*Step{first}, in.level()}, owner: in.owner, failures: scope}
		entries := b.ordered(first.scope, t.Of(project.DirectCalls), inner)
		end = b.follow(end, Outcome, entries, in)
	}
	if in.looped {
		return end
	}
	if t.HasAfterCalls() {
		end = b.follow(end, End, b.afterCalls([]*Step{end}, []*Step{first}, in), in)
	}
	b.atEnd(end, []*Step{end}, []*Step{first}, in)
	return end
}

// atEnd adds the calls that a task makes last of all, behind the end of all else that
// belongs to the call. Nothing waits for them.
func (b *builder) atEnd(whole *Step, ends, firsts []*Step, in callSite) {
	if len(firsts) == 0 {
		return
	}
	for _, s := range b.afterCall(project.AtEnd, Final, firsts[0].Task.Of(project.AtEnd), ends, firsts, in) {
		if first := s.First(); !slices.Contains(ends, whole) {
			first.AfterEnd = append(first.AfterEnd, whole)
		}
	}
}

// afterCalls adds the after-calls of a task: ends are the ends of its instances
// that decide over them, firsts their first steps.
func (b *builder) afterCalls(ends, firsts []*Step, in callSite) []*Step {
	var all []*Step
	for _, kind := range project.AfterCalls {
		calls := firsts[0].Task.Of(kind)
		if len(calls) == 0 {
			continue
		}
		level := in.level()
		switch kind {
		case project.IfFailed:
			level = max(level, AfterFail)
		case project.Finally:
			level = Final
		}
		made := b.afterCall(kind, level, calls, ends, firsts, in)
		if kind == project.Finally {
			for _, s := range made {
				s.AfterEnd = append(s.AfterEnd, ofSameOwners(all, s)...)
				b.noteCleanup(s, ends, firsts)
			}
		}
		all = append(all, made...)
	}
	return all
}

// ofSameOwners returns those of some after-calls that are made for no other owners
// than s is: cleaning up after one instance does not wait for what follows the last.
func ofSameOwners(all []*Step, s *Step) []*Step {
	var same []*Step
	for _, other := range all {
		if !slices.ContainsFunc(other.First().CalledFor.Owners, func(owner *Step) bool { return !slices.Contains(s.First().CalledFor.Owners, owner) }) {
			same = append(same, other)
		}
	}
	return same
}

// noteCleanup notes a finally call that is made for one instance alone.
func (b *builder) noteCleanup(s *Step, ends, firsts []*Step) {
	if owners := s.First().CalledFor.Owners; len(owners) == 1 {
		first := firsts[slices.Index(ends, owners[0])]
		first.Cleanup = append(first.Cleanup, s)
	}
}

// afterCall adds the after-calls of one kind, each entry behind the one before.
// Equal ones of several instances are made once, after the last of these.
func (b *builder) afterCall(kind project.Kind, level Level, calls project.Calls, ends, firsts []*Step, in callSite) []*Step {
	var all []*Step
	earlier := make([][]*Step, len(ends)) // by instance
	for _, entry := range calls {
		now := make([][]*Step, len(ends))
		for _, c := range entry {
			for _, members := range b.equalCalls(c, firsts) {
				trigger := &Trigger{Kind: kind, Level: level}
				var before []*Step
				for _, i := range members {
					trigger.Owners = append(trigger.Owners, ends[i])
					before = append(before, earlier[i]...)
				}
				slices.SortFunc(before, func(a, b *Step) int { return a.Index - b.Index })
				s := b.called(c, firsts[members[0]].scope, callSite{trigger: trigger, owner: trigger, failures: in.failures}, slices.Compact(before))
				for _, i := range members {
					now[i] = append(now[i], s)
				}
				all = append(all, s)
			}
		}
		earlier = now
	}
	return all
}

// equalCalls returns the instances, given by their first steps, in groups for
// which a call comes to the same.
func (b *builder) equalCalls(c project.Call, firsts []*Step) [][]int {
	var groups [][]int
	byKey := map[string]int{}
	for i, first := range firsts {
		args := b.values(c.Task, c, first.scope)
		at, known := byKey[args.key()]
		if !known {
			at = len(groups)
			byKey[args.key()] = at
			groups = append(groups, nil)
		}
		groups[at] = append(groups[at], i)
	}
	return groups
}

// ordered adds calls, each entry behind the one before. What is called by several
// tasks starts when the first of these may call it.
func (b *builder) ordered(caller *scope, calls project.Calls, in callSite) []*Step {
	var all, earlier []*Step
	for _, entry := range calls {
		var now []*Step
		for _, c := range entry {
			s := b.called(c, caller, in, earlier)
			if slices.Contains(all, s) || slices.Contains(now, s) {
				b.found = append(b.found, project.Diagnostic{Span: c.Span, Msg: fmt.Sprintf("%q is called twice here", s.Name), Hint: "the same call is made once in a run"})
				continue
			}
			now = append(now, s)
		}
		all = append(all, now...)
		services := slices.DeleteFunc(slices.Clone(earlier), func(s *Step) bool { return !s.Stays() && (s.Works() || len(s.Services()) == 0) })
		earlier = append(now, services...) // those stay until all calls have ended
	}
	return all
}

// called adds a call that is made behind earlier ones, and so is what it alone
// brings in.
func (b *builder) called(c project.Call, caller *scope, in callSite, earlier []*Step) *Step {
	before := len(b.plan.Steps)
	s := b.add(c.Task, c, caller, in)
	for _, added := range b.plan.Steps[before:] {
		if !b.waitsForNew(added, before) {
			added.wait(earlier, in)
		}
	}
	if s.First().Index < before { // it was in the plan already
		s.First().wait(earlier, in)
		b.reorder = b.reorder || len(earlier) > 0
	}
	return s
}

// First returns the step with which begins what s ends.
func (s *Step) First() *Step {
	for s.Previous != nil {
		s = s.Previous
	}
	return s
}

// wait makes s wait for earlier entries of the list it stands in. What cleans
// up does not mind how they ended.
func (s *Step) wait(earlier []*Step, in callSite) {
	for _, other := range earlier {
		switch {
		case other == s:
		case in.trigger != nil && in.trigger.Kind != project.DirectCalls && in.trigger.Kind != project.Then:
			s.AfterEnd = append(s.AfterEnd, other)
		default:
			s.After = append(s.After, other)
		}
	}
}

// follow adds the step that ends with some entries.
func (b *builder) follow(of *Step, role Role, entries []*Step, in callSite) *Step {
	s := &Step{
		Name: of.Name, Task: of.Task, Role: role, Previous: of, Called: entries, Needs: append([]*Step{of}, entries...),
		Folder: of.Folder, scope: of.scope, CalledFor: in.owner, FailureScope: in.failures, alsoWants: []*Step{of},
	}
	b.append(s, in)
	for first := of; first != nil; first = first.Previous {
		first.Last = s
	}
	return s
}

func (b *builder) append(s *Step, in callSite) {
	if in.trigger == nil {
		s.wanted = true
	} else if s.Triggers == nil {
		s.Triggers = []*Trigger{in.trigger}
	}
	s.Index = len(b.plan.Steps)
	b.plan.Steps = append(b.plan.Steps, s)
}

// lockAll gives the first step of what holds a lock, or a place among the
// instances of a task, while others run for it the locks of those, too: who
// holds one never waits for another.
func (b *builder) lockAll(steps []*Step) {
	for _, s := range steps {
		for _, name := range s.Task.Locks {
			if s.Previous == nil && !slices.Contains(s.Locks, name.Value) {
				s.Locks = append(s.Locks, name.Value)
			}
		}
		if s.Previous != nil || len(s.Locks) == 0 && !s.Limited || s.Last == nil {
			continue
		}
		seen := map[*Step]bool{}
		var visit func(*Step)
		visit = func(other *Step) {
			if seen[other] {
				return
			}
			seen[other] = true
			other.WaitsFor(visit)
		}
		visit(s) // what comes before is not under the lock
		var gather func(*Step)
		gather = func(other *Step) {
			if seen[other] {
				return
			}
			seen[other] = true
			for _, name := range other.Task.Locks {
				if !slices.Contains(s.Locks, name.Value) {
					s.Locks = append(s.Locks, name.Value)
				}
			}
			other.WaitsFor(gather)
		}
		gather(s.Last)
		slices.Sort(s.Locks)
	}
}

// Precedes reports whether s must have ended before other starts.
func (s *Step) Precedes(other *Step) bool { return precedes(s, other) }
