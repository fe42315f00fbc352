package engine

import (
	"slices"
	"sync"

	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// Resumed is what was done by the run that is resumed. It may be used from many goroutines.
type Resumed struct {
	run history.Run

	mu    sync.Mutex                 // protects the fields below
	steps map[string]history.RunStep // by key: those that ended well and still count
}

// ResumedFrom returns what of a plan was done in a run of the same request.
//
// A step counts as done if it ended well there, but for two cases. What
// if_failed and finally called for a task that did not end well will be called
// again. And if finally was called for such a task or instance, what that itself
// called was undone: it starts from its first call.
func ResumedFrom(p *plan.Plan, run history.Run) *Resumed {
	d := &Resumed{run: run}
	d.Review(p)
	return d
}

// Review finds out anew what is done, since a plan has steps that it had not.
func (d *Resumed) Review(p *plan.Plan) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.steps = map[string]history.RunStep{}
	started := map[string]bool{}
	for _, s := range d.run.Steps {
		started[s.Key()] = s.Attempts > 0 || s.State == string(Failed)
		switch State(s.State) {
		case Ran, Restored, Unchanged:
			d.steps[s.Key()] = s
		}
	}
	again := map[*plan.Step]bool{} // what they call is called again
	for _, s := range p.Steps {
		if s.Role != plan.End {
			continue
		}
		for _, after := range s.Called {
			first := after.First()
			if first.CalledFor == nil || first.CalledFor.Kind != project.Finally || !d.anyStarted(first, started) {
				continue
			}
			for _, owner := range first.CalledFor.Owners {
				again[owner.First()] = again[owner.First()] || !d.well(owner)
			}
		}
	}
	for _, s := range p.Steps {
		if d.isCalledAgain(s, again) {
			d.discard(s)
			again[s] = again[s] || s.Role == plan.Start
		}
	}
}

// well reports whether a step ended well.
func (d *Resumed) well(s *plan.Step) bool {
	switch {
	case s.Role == plan.Start:
		return true
	case s.Role == plan.Body:
		_, done := d.steps[stepKey(s)]
		return done || !s.Works() || s.Skip != ""
	case s.Previous != nil && !d.well(s.Previous):
		return false
	}
	for _, entry := range s.Called {
		if kind := entry.First().CalledFor; kind != nil && s.Role == plan.End && kind.Kind != project.Then {
			continue
		}
		if !d.well(entry) {
			return false
		}
	}
	return s.Loop == nil
}

// anyStarted reports whether a step, or one that it calls, was started.
func (d *Resumed) anyStarted(s *plan.Step, started map[string]bool) bool {
	if s.Works() {
		return started[stepKey(s)]
	}
	whole := s
	for whole.Last != nil {
		whole = whole.Last
	}
	for at := whole; at != nil; at = at.Previous {
		for _, entry := range at.Called {
			if d.anyStarted(entry.First(), started) {
				return true
			}
		}
	}
	return false
}

// isCalledAgain reports whether a step is called by one whose calls are made again, or
// because a task failed or ended that did not end well.
func (d *Resumed) isCalledAgain(s *plan.Step, again map[*plan.Step]bool) bool {
	return slices.ContainsFunc(s.Triggers, func(t *plan.Trigger) bool {
		switch t.Kind {
		case project.DirectCalls:
			return slices.ContainsFunc(t.Owners, func(owner *plan.Step) bool { return again[owner] })
		case project.Then:
			return false
		}
		return t.Decide(d.outlook) != plan.NotMade
	})
}

// outlook returns how a step may end now: what ended well is not started again.
func (d *Resumed) outlook(s *plan.Step) plan.Outcomes {
	if d.well(s) {
		return plan.Succeeded | plan.NotStarted
	}
	return plan.AnyEnd
}

// discard takes a step from what is done: all its instances, if it has some that
// are not known yet.
func (d *Resumed) discard(s *plan.Step) {
	delete(d.steps, stepKey(s))
	if s.Loop == nil {
		return
	}
	for key, old := range d.steps {
		if old.Task == s.Task.Name {
			delete(d.steps, key)
		}
	}
}

func stepKey(s *plan.Step) string {
	if by := s.CalledBy(); by != "" {
		return history.StepKey(s.Name, &by)
	}
	return s.Name
}

// Finished reports whether a step was finished in the run, and whether with a
// fingerprint of that sum.
func (d *Resumed) Finished(s *plan.Step, sum string) (run string, finished, same bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	old, finished := d.steps[stepKey(s)]
	return d.run.ID, finished, old.Sum == sum
}
