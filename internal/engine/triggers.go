package engine

import (
	"fmt"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// triggerResult is what the triggers of a step come to.
type triggerResult struct {
	unknown bool // it is not known yet
	wanted  bool
	level   plan.Level // if it is wanted
	state   State      // if it is not: Skipped, Blocked or Stopped
	reason  string
}

// severity orders the states of what is not wanted.
var severity = map[State]int{Skipped: 1, Stopped: 2, Blocked: 3}

// triggered returns whether a step is wanted, as far as that is known.
func (l *loop) triggered(s *plan.Step) triggerResult {
	if len(s.Triggers) == 0 {
		return triggerResult{wanted: true}
	}
	var all triggerResult
	for _, t := range s.Triggers {
		w := l.byTrigger(t)
		switch {
		case w.unknown:
			all.unknown = true
		case w.wanted:
			all.wanted, all.level = true, max(all.level, w.level)
		case severity[w.state] > severity[all.state]:
			all.state, all.reason = w.state, w.reason
		}
	}
	if all.wanted {
		all.unknown = false
	}
	return all
}

// byTrigger returns what a single trigger comes to.
func (l *loop) byTrigger(t *plan.Trigger) triggerResult {
	if l.triggers[t].open > 0 {
		return triggerResult{unknown: true}
	}
	w := triggerResult{level: t.Level, state: Skipped, wanted: t.Decide(l.outcomes) == plan.IsMade}
	switch t.Kind {
	case project.DirectCalls, project.Then:
		for _, owner := range t.Owners {
			state := l.state[owner.Index]
			if state == Failed {
				state = Blocked
			}
			if severity[state] > severity[w.state] {
				w.state, w.reason = state, fmt.Sprintf("needs %q, which %s", owner.Name, l.ending(owner))
			}
		}
	case project.IfFailed:
		w.reason = fmt.Sprintf("only if %q fails", t.Owners[0].Name)
	case project.Finally:
		w.reason = fmt.Sprintf("%q did not start", t.Owners[0].Name)
	}
	return w
}

// outcomes returns how a step ended.
func (l *loop) outcomes(s *plan.Step) plan.Outcomes {
	o := endings[l.state[s.Index]]
	if l.started(s) {
		return o | plan.Started
	}
	return o | plan.NotStarted
}

// endings are the states of steps as triggers see them.
var endings = map[State]plan.Outcomes{
	Ran: plan.Succeeded, Unchanged: plan.Succeeded, Restored: plan.Succeeded,
	Failed: plan.Failed, Skipped: plan.Skipped, Stopped: plan.Stopped, Blocked: plan.Blocked,
}

// started reports whether what decides over an after-call had begun.
func (l *loop) started(s *plan.Step) bool {
	first := s.First()
	if first.Works() {
		r := l.summary.Results[first.Index]
		return r.Attempts > 0 || r.DoneBefore
	}
	return l.state[first.Index] == Ran
}

// outcome returns how a step ended that stands for what it called: for its
// calls and instances, or for its after-calls.
func (l *loop) outcome(s *plan.Step) Result {
	r := Result{step: s, State: Ran}
	if s.Skip != "" {
		r.State, r.Reason = Skipped, s.Skip
		return r
	}
	if s.Previous != nil {
		of := l.summary.Results[s.Previous.Index]
		r.State, r.Reason = of.State, of.Reason
		if s.Role == plan.Outcome && of.State != Ran || of.State == Failed || of.State == Blocked || of.State == Stopped {
			return r
		}
	}
	for _, entry := range s.Called {
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
	outcome := opening.Last
	for outcome.Previous != opening {
		outcome = outcome.Previous
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
		if l.triggers[t] == nil {
			l.triggers[t] = l.newTriggerState(t)
		}
		l.triggers[t].steps = append(l.triggers[t].steps, s)
	}
}

// countWaits notes for what a step waits.
func (l *loop) countWaits(s *plan.Step) {
	for _, others := range [][]*plan.Step{s.Needs, s.After, s.AfterEnd} {
		for _, other := range others {
			if l.state[other.Index] == "" {
				l.waits[s.Index]++
				l.waiting[other.Index] = append(l.waiting[other.Index], s)
			}
		}
	}
}

// triggerState is what is known of a trigger in a run.
type triggerState struct {
	open  int          // how many of the owners have not ended
	steps []*plan.Step // that are wanted if it comes true
}

func (l *loop) newTriggerState(t *plan.Trigger) *triggerState {
	g := &triggerState{}
	for _, owner := range t.Owners {
		if l.state[owner.Index] == "" {
			g.open++
			l.decides[owner.Index] = append(l.decides[owner.Index], t)
		}
	}
	return g
}

// startOrEnd makes a step ready if it may start now, or has it ended if nobody
// wants it.
func (l *loop) startOrEnd(s *plan.Step) {
	if l.state[s.Index] != "" || l.queued[s.Index] {
		return
	}
	w := l.triggered(s)
	switch {
	case w.unknown:
	case !w.wanted:
		l.queued[s.Index] = true
		l.unwanted = append(l.unwanted, Result{step: s, State: w.state, Reason: w.reason, Uncalled: w.state == Skipped})
	case l.waits[s.Index] == 0:
		l.queued[s.Index] = true
		l.ready.push(s)
	}
}
