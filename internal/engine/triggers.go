package engine

import (
	"fmt"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// wish is what the triggers of a step come to.
type wish struct {
	open   bool // it is not known yet
	wanted bool
	level  plan.Level // if it is wanted
	state  State      // if it is not: Skipped, Blocked or Stopped
	reason string
}

// severity orders the states of what is not wanted.
var severity = map[State]int{Skipped: 1, Stopped: 2, Blocked: 3}

// wish returns whether a step is wanted, as far as that is known.
func (l *loop) wish(s *plan.Step) wish {
	if len(s.Triggers) == 0 {
		return wish{wanted: true}
	}
	var all wish
	for _, t := range s.Triggers {
		w := l.pulled(t)
		switch {
		case w.open:
			all.open = true
		case w.wanted:
			all.wanted, all.level = true, max(all.level, w.level)
		case severity[w.state] > severity[all.state]:
			all.state, all.reason = w.state, w.reason
		}
	}
	if all.wanted {
		all.open = false
	}
	return all
}

// pulled returns what a single trigger comes to.
func (l *loop) pulled(t *plan.Trigger) wish {
	if l.gated[t].open > 0 {
		return wish{open: true}
	}
	w := wish{level: t.Level, state: Skipped}
	var good, failed, started bool
	for _, owner := range t.Owners {
		state := l.state[owner.Index]
		good = good || state == Ran || state == Unchanged || state == Restored
		failed = failed || state == Failed
		started = started || l.started(owner)
		if severity[state] > severity[w.state] || state == Failed {
			w.state, w.reason = state, fmt.Sprintf("needs %q, which %s", owner.Name, l.ending(owner))
			if state == Failed {
				w.state = Blocked
			}
		}
	}
	switch t.Kind {
	case project.Makes, project.Then:
		w.wanted = good && w.state == Skipped
	case project.IfFailed:
		w.wanted = failed
		w.state, w.reason = Skipped, fmt.Sprintf("only if %q fails", t.Owners[0].Name)
	case project.Finally:
		w.wanted = started
		w.state, w.reason = Skipped, fmt.Sprintf("%q did not start", t.Owners[0].Name)
	}
	return w
}

// started reports whether what decides over an after-call had begun.
func (l *loop) started(s *plan.Step) bool {
	first := s.First()
	if first.Works() {
		r := l.summary.Results[first.Index]
		return r.Attempts > 0 || r.Done
	}
	return l.state[first.Index] == Ran
}

// outcome returns how a step ended that stands for what it called: for its
// calls and instances, or for its after-calls.
func (l *loop) outcome(s *plan.Step) Result {
	r := Result{Step: s, State: Ran}
	if s.Skip != "" {
		r.State, r.Reason = Skipped, s.Skip
		return r
	}
	if s.Of != nil {
		of := l.summary.Results[s.Of.Index]
		r.State, r.Reason = of.State, of.Reason
		if s.Role == plan.Outcome && of.State != Ran || of.State == Failed || of.State == Blocked || of.State == Stopped {
			return r
		}
	}
	for _, entry := range s.Entries {
		switch state := l.state[entry.Index]; {
		case state == Failed, state == Blocked:
			r.State, r.Reason = Failed, fmt.Sprintf("%q %s", entry.Name, l.ending(entry))
			return r
		case state == Stopped:
			r.State, r.Reason = Stopped, fmt.Sprintf("%q %s", entry.Name, l.ending(entry))
		}
	}
	return r
}

// endCalls has the outcome of a task end whose calls are not made: it does not
// wait for those that others may still make.
func (l *loop) endCalls(opening *plan.Step) {
	outcome := opening.Whole
	for outcome.Of != opening {
		outcome = outcome.Of
	}
	if l.state[outcome.Index] == "" && !l.queued[outcome.Index] {
		l.queued[outcome.Index] = true
		l.unwanted = append(l.unwanted, l.outcome(outcome))
	}
}

// count notes for what a step waits, and what decides whether it is wanted.
func (l *loop) count(s *plan.Step) {
	l.countWaits(s)
	for _, t := range s.Triggers {
		if l.gated[t] == nil {
			l.gated[t] = l.gateOf(t)
		}
		l.gated[t].steps = append(l.gated[t].steps, s)
	}
}

// countWaits notes for what a step waits.
func (l *loop) countWaits(s *plan.Step) {
	for _, others := range [][]*plan.Step{s.Needs, s.After, s.Behind} {
		for _, other := range others {
			if l.state[other.Index] == "" {
				l.waits[s.Index]++
				l.waiting[other.Index] = append(l.waiting[other.Index], s)
			}
		}
	}
}

// gate is what is known of a trigger in a run.
type gate struct {
	open  int          // how many of the owners have not ended
	steps []*plan.Step // that are wanted when it is pulled
}

func (l *loop) gateOf(t *plan.Trigger) *gate {
	g := &gate{}
	for _, owner := range t.Owners {
		if l.state[owner.Index] == "" {
			g.open++
			l.decides[owner.Index] = append(l.decides[owner.Index], t)
		}
	}
	return g
}

// consider makes a step ready if it may start now, or has it ended if nobody
// wants it.
func (l *loop) consider(s *plan.Step) {
	if l.state[s.Index] != "" || l.queued[s.Index] {
		return
	}
	w := l.wish(s)
	switch {
	case w.open:
	case !w.wanted:
		l.queued[s.Index] = true
		l.unwanted = append(l.unwanted, Result{Step: s, State: w.state, Reason: w.reason, Uncalled: w.state == Skipped})
	case l.waits[s.Index] == 0:
		l.queued[s.Index] = true
		l.ready.push(s)
	}
}
