package plan

import (
	"slices"

	"tugline/internal/project"
)

// Requested is the kind of a cause that is no other task: the request names the step.
const Requested project.Kind = "requested"

// ReadsIt is the kind of a cause through files.
const ReadsIt project.Kind = "reads"

// Cause is why a step is in a plan.
type Cause struct {
	Kind  project.Kind // Requested, ReadsIt, or the key by which By names it
	By    *Step        // nil: the request
	Place project.Span // of the call, or of the pattern of reads
	// Write and Read are the patterns through which By reads what the step writes.
	Write, Read Glob
}

// Causes returns why each step with commands is in the plan, the calls first. That one
// step comes after another since the request names both in that order is no cause.
func (p *Plan) Causes() map[*Step][]Cause {
	c := causes{all: map[*Step][]Cause{}}
	for _, s := range p.requested {
		c.add(s, Cause{Kind: Requested})
	}
	for _, s := range p.Steps {
		c.byNeeds(s)
		c.byCalls(s)
	}
	for _, s := range p.Steps {
		for _, other := range s.alsoWants {
			if len(c.all[other.First()]) == 0 {
				c.byPatterns(p.builder, s, other)
			}
		}
	}
	for _, s := range p.Steps {
		if s.IsLoop() {
			for _, instance := range s.Called {
				c.all[instance.First()] = append(slices.Clip(c.all[s]), c.all[instance.First()]...)
			}
		}
	}
	for _, list := range c.all {
		slices.SortStableFunc(list, func(a, b Cause) int { return rank(a.Kind) - rank(b.Kind) })
	}
	return c.all
}

// rank orders kinds of causes.
func rank(k project.Kind) int {
	return slices.Index([]project.Kind{Requested, project.Needs, project.DirectCalls, project.Then, project.IfFailed, project.Finally, project.AtEnd, ReadsIt}, k)
}

// IsLoop reports whether s stands for the instances of its task.
func (s *Step) IsLoop() bool { return s.Role == Outcome && s.Previous == nil }

// causes are gathered by the first step of a call.
type causes struct{ all map[*Step][]Cause }

func (c *causes) add(s *Step, cause Cause) {
	s = s.First()
	same := func(other Cause) bool {
		return other.Kind == cause.Kind && (other.By == nil) == (cause.By == nil) && (cause.By == nil || other.By.Task == cause.By.Task && other.Read.Text.Span == cause.Read.Text.Span)
	}
	if !slices.ContainsFunc(c.all[s], same) {
		c.all[s] = append(c.all[s], cause)
	}
}

// byNeeds adds s as a cause of what it needs, by name or through files.
func (c *causes) byNeeds(s *Step) {
	for _, via := range s.FileNeeds {
		c.add(via.Step, Cause{ReadsIt, s, via.Read.Text.Span, via.Write, via.Read})
	}
	if len(s.Task.Needs) == 0 {
		return
	}
	places := make(map[*project.Task]project.Span, len(s.Task.Needs))
	for _, call := range slices.Backward(s.Task.Needs) {
		places[call.Task] = call.Span
	}
	for _, need := range s.Needs {
		if place, named := places[need.Task]; named {
			c.add(need, Cause{Kind: project.Needs, By: s.First(), Place: place})
		}
	}
}

// byCalls adds s as a cause of what it calls.
func (c *causes) byCalls(s *Step) {
	if s.IsLoop() {
		return
	}
	for _, called := range s.Called {
		for _, kind := range append([]project.Kind{project.DirectCalls, project.AtEnd}, project.AfterCalls...) {
			if (s.Role == Outcome) != (kind == project.DirectCalls) || !madeBy(called, kind) {
				continue
			}
			for _, call := range slices.Concat(s.Task.Of(kind)...) {
				if call.Task == called.Task {
					c.add(called, Cause{Kind: kind, By: s.First(), Place: call.Span})
					break
				}
			}
		}
	}
}

// madeBy reports whether a step may be brought in by calls of a kind.
func madeBy(s *Step, kind project.Kind) bool {
	return kind == project.DirectCalls || len(s.Triggers) == 0 && s.CalledFor == nil ||
		s.CalledFor != nil && s.CalledFor.Kind == kind || slices.ContainsFunc(s.Triggers, func(t *Trigger) bool { return t.Kind == kind })
}

// byPatterns adds s as a cause of a task that was taken in since its patterns, in which
// values are not known, overlap what s reads.
func (c *causes) byPatterns(b *builder, s, other *Step) {
	for _, write := range b.unfilled(other.Task, other.Task.Writes, nil) {
		if write.Not {
			continue
		}
		if read := b.readsOf(s.Reads, write); read != nil {
			c.add(other, Cause{ReadsIt, s.First(), read.Text.Span, write, *read})
			return
		}
	}
}
