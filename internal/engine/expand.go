package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// list asks for the values of a step's instances, aside from the loop: a script
// may tell them. Its slot is that of a step which runs.
func (l *loop) list(ctx context.Context, s *plan.Step) {
	questions := l.plan.Lists(s)
	if l.cfg.List == nil {
		questions = nil // the plan asks by itself
	}
	l.running++
	l.takeSlot(s)
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
		l.events <- Event{step: s, answers: answers}
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
		r := &Result{step: s}
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
	if s.Last != nil {
		l.recount(s.Last)
	}
	for _, other := range added {
		l.startOrEnd(other)
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
	l.moved = append(l.moved, make([]bool, n)...)
	l.steps = append(l.steps, make([]*Step, n)...)
	l.slotOf = append(l.slotOf, make([]int, n)...)
	l.summary.Results = append(l.summary.Results, make([]Result, n)...)
	for _, s := range added {
		l.count(s)
	}
	l.noteServices(added)
	l.rank(len(l.plan.Steps) - n)
	e := Event{Kind: StepsAdded, Time: l.cfg.Now()}
	for _, s := range added {
		e.Added = append(e.Added, l.told(s))
	}
	l.tell(e)
}

// recount notes for what a step waits that was in the plan before, and got new
// needs.
func (l *loop) recount(s *plan.Step) {
	for i := range l.waiting {
		l.waiting[i] = slices.DeleteFunc(l.waiting[i], func(other *plan.Step) bool { return other == s })
	}
	l.waits[s.Index], l.queued[s.Index] = 0, false
	l.countWaits(s)
	l.startOrEnd(s)
}

// removeVanished removes what vanished instances of a plan's tasks left, before
// anything runs that could read it.
func (l *loop) removeVanished(ctx context.Context, tasks []*project.Task) {
	if l.cfg.Cache == nil || ctx.Err() != nil {
		return
	}
	for _, t := range tasks {
		removed, told, err := l.cfg.Cache.RemoveVanished(l.plan, t)
		for _, text := range removed {
			l.tell(Event{Kind: RunRemoved, Time: l.cfg.Now(), Text: []byte(l.cfg.Secrets.Text(text))})
		}
		if err != nil {
			told = append(told, fmt.Sprintf("cannot remove outputs of instances of %s that no longer exist: %v", t.Name, err))
		}
		for _, text := range told {
			l.tell(Event{Kind: RunNote, Time: l.cfg.Now(), Text: []byte(l.cfg.Secrets.Text(text))})
		}
	}
}
