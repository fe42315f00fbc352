package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"

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

// failedStep returns the first step with commands that failed below one that
// failed; nil if there is none.
func (l *loop) failedStep(s *plan.Step) *plan.Step {
	if l.state[s.Index] != Failed {
		return nil
	}
	if s.Works() {
		return s
	}
	below := s.Entries
	if s.Of != nil {
		below = append([]*plan.Step{s.Of}, below...)
	}
	for _, entry := range below {
		if f := l.failedStep(entry); f != nil {
			return f
		}
	}
	return nil
}

// failureEnv returns the variables that tell a step of the failure after which
// it is called.
func (l *loop) failureEnv(s *plan.Step) []string {
	if s.For == nil || s.For.Kind == project.Then {
		return nil
	}
	for _, owner := range s.For.Owners {
		f := l.failedStep(owner)
		if f == nil {
			continue
		}
		env := []string{"TUGLINE_FAILED_TASK=" + f.Name}
		if code := l.summary.Results[f.Index].Failure.Code; code != 0 { // else it gave none, as after a time-out
			env = append(env, "TUGLINE_EXIT_CODE="+strconv.Itoa(code))
		}
		if l.cfg.Log != nil {
			env = append(env, "TUGLINE_FAILED_LOG="+l.cfg.Log(f))
		}
		return env
	}
	return nil
}

// list asks for the values of a step's instances, aside from the loop: a script
// may tell them. Its slot is that of a step which runs.
func (l *loop) list(ctx context.Context, s *plan.Step) {
	if l.cfg.Cache != nil {
		l.cfg.Cache.Files.Forget()
	}
	questions := l.plan.Lists(s)
	if l.cfg.List == nil {
		questions = nil // the plan asks by itself
	}
	l.running++
	stepCtx, cancel := context.WithCancelCause(ctx)
	l.cancels[s] = cancel
	l.workers.Go(func() {
		defer cancel(nil)
		ctx, limit := withTimeout(stepCtx, s.Task.Timeout)
		defer limit()
		answers := plan.Answers{}
		for list, question := range questions {
			values, err := l.cfg.List(ctx, question)
			if err != nil && timedOut(ctx) {
				err = timeoutError(s.Task.Timeout)
			}
			answers[list] = plan.Answer{Values: values, Err: err}
		}
		l.events <- Event{Step: s, answers: answers}
	})
}

// expand adds the instances of a step whose values are known now. It returns
// the result of one that fails for that.
func (l *loop) expand(ctx context.Context, s *plan.Step, answers plan.Answers) *Result {
	added, err := l.plan.Expand(s, answers)
	if err == nil {
		err = l.scripts.add(added)
	}
	if err != nil {
		r := &Result{Step: s}
		l.fail(ctx, r, nil, nil, err)
		var found project.Diagnostics
		if r.Failure != nil && errors.As(err, &found) && len(found) > 0 {
			r.Reason, r.Failure.Msg, r.Failure.Span, r.Failure.Hint = found[0].Msg, found[0].Msg, found[0].Span, found[0].Hint
			r.Failure.Internal = false
		}
		return r
	}
	if l.cfg.Cache != nil && l.cfg.Cache.Expanded != nil {
		l.cfg.Cache.Expanded(l.plan)
	}
	l.removeVanished(ctx, []*project.Task{s.Task})
	l.grow(added)
	l.recount(s)
	if s.Whole != nil {
		l.recount(s.Whole)
	}
	for _, other := range added {
		l.consider(other)
	}
	return nil
}

// grow makes room for steps that are new in the plan.
func (l *loop) grow(added []*plan.Step) {
	n := len(added)
	l.waits = append(l.waits, make([]int, n)...)
	l.waiting = append(l.waiting, make([][]*plan.Step, n)...)
	l.decides = append(l.decides, make([][]*plan.Trigger, n)...)
	l.state = append(l.state, make([]State, n)...)
	l.queued = append(l.queued, make([]bool, n)...)
	l.summary.Results = append(l.summary.Results, make([]Result, n)...)
	for _, s := range added {
		l.count(s)
	}
	l.rank(len(l.plan.Steps) - n)
	l.tell(Event{Kind: StepsAdded, Time: l.cfg.Now(), Added: added})
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

// recount notes for what a step waits that was in the plan before, and got new
// needs.
func (l *loop) recount(s *plan.Step) {
	for i := range l.waiting {
		l.waiting[i] = slices.DeleteFunc(l.waiting[i], func(other *plan.Step) bool { return other == s })
	}
	l.waits[s.Index], l.queued[s.Index] = 0, false
	l.countWaits(s)
	l.consider(s)
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

// noteFailure notes a failure in every ward around it, and ends what it is to end.
func (l *loop) noteFailure(f *plan.Step) {
	var inner *plan.Ward
	for w := f.Ward; ; w = w.Around {
		if !slices.ContainsFunc(l.failures[w], func(other failure) bool { return other.inner == inner }) {
			l.failures[w] = append(l.failures[w], failure{inner, f})
		}
		if w == nil {
			break
		}
		inner = w
	}
	for s, cancel := range l.cancels {
		if by, how := l.afterFailure(s); by != nil && how == "abort" && l.wish(s).level == plan.Ordinary {
			cancel(fmt.Errorf("%w because %q failed", errAborted, by.Name))
		}
	}
}

// failure is the first one that happened in a ward, or in one directly inside it.
type failure struct {
	inner *plan.Ward // where it happened; nil: in the ward itself
	step  *plan.Step
}

// afterFailure returns the first failure that keeps a step from starting, and what it
// does: drain or abort. nil: there is none.
func (l *loop) afterFailure(s *plan.Step) (by *plan.Step, how string) {
	var inner *plan.Ward
	for w := s.Ward; ; w = w.Around {
		for _, f := range l.failures[w] {
			if f.inner == inner && inner != nil || f.step == s {
				continue // it is noted in that ward
			}
			if how = l.policy(w); how != "continue" {
				return f.step, how
			}
		}
		if w == nil {
			return nil, ""
		}
		inner = w
	}
}

// policy returns what a failure in a ward does to the others of it.
func (l *loop) policy(w *plan.Ward) string {
	switch {
	case l.cfg.AfterAll != "":
		return l.cfg.AfterAll
	case w != nil:
		return w.After
	case l.cfg.After != "":
		return l.cfg.After
	}
	return "drain"
}

// removeVanished removes what vanished instances of a plan's tasks left, before
// anything runs that could read it.
func (l *loop) removeVanished(ctx context.Context, tasks []*project.Task) {
	if l.cfg.Cache == nil || ctx.Err() != nil {
		return
	}
	for _, t := range tasks {
		told, err := l.cfg.Cache.RemoveVanished(l.plan, t)
		if err != nil {
			told = append(told, fmt.Sprintf("cannot remove outputs of instances of %s that no longer exist: %v", t.Name, err))
		}
		for _, text := range told {
			l.tell(Event{Kind: RunNote, Time: l.cfg.Now(), Text: []byte(l.cfg.Secrets.Text(text))})
		}
	}
}
