package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tugline/internal/cache"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/service"
)

// holding is what is known of a step that waits for a condition, in no slot.
type holding struct {
	cancel context.CancelCauseFunc
	since  time.Time
}

// holds reports whether a step must be looked at before it starts: whether it is going to
// run, and has something to wait for then.
func (l *loop) holds(s *plan.Step) bool {
	_, done := l.waited[s]
	return s.Task.HoldUntil != nil && (s.Works() || s.Role == plan.Start) && !done
}

// look hands a step to a worker that finds out whether it is going to run. If so, it waits
// for its condition; else it starts, and will be left as it is.
func (l *loop) look(ctx context.Context, s *plan.Step) {
	l.running++
	l.takeSlot(s)
	ctx = l.contextFor(ctx, s)
	stepCtx, cancel := context.WithCancelCause(ctx)
	l.cancels[s] = cancel
	t := l.task(stepCtx, s)
	t.looks = true
	probe, what, err := l.probe(t)
	if err != nil {
		t.failed = err
	}
	t.held = func(runs bool) {
		l.running--
		l.idle++
		l.leaveSlot(s)
		delete(l.cancels, s)
		if !runs {
			l.waited[s] = 0
			l.ready.push(s)
			return
		}
		if r, known := l.withoutRunning(ctx, s); known { // something failed meanwhile
			l.endUnstarted(r)
			return
		}
		l.await(ctx, t, probe, what)
	}
	l.hand(t)
}

// lookAt finds out whether a step is going to run.
func (l *loop) lookAt(ctx context.Context, t task) {
	r := Result{step: t.step, State: Ran}
	skip, err := "", t.failed
	if err == nil {
		skip, err = l.skips(ctx, t)
	}
	runs := true
	if err == nil && skip == "" && t.step.Works() && l.cfg.Cache != nil {
		var v cache.Decision
		v, err = l.cfg.Cache.Decide(ctx, t.step, t.inputs, t.moved)
		runs = v.Action == cache.ToRun
	}
	switch {
	case err != nil:
		l.fail(ctx, &r, &t.step.Task.When.Run, t.env, err)
	case skip != "":
		r.State, r.Reason = Skipped, skip
	default:
		l.events <- Event{inLoop: func() { t.held(runs) }}
		return
	}
	l.events <- Event{Kind: StepFinished, Time: l.cfg.Now(), step: t.step, Result: r}
}

// await waits for the condition of a step, beside all else.
// The services that the step uses are started before: what they do may be what it waits for.
func (l *loop) await(ctx context.Context, t task, probe func(context.Context) error, what string) {
	s := t.step
	holdCtx, cancel := context.WithCancelCause(ctx)
	l.holdings[s] = &holding{cancel, l.cfg.Now()}
	l.workers.Go(func() {
		var seen error
		err := l.services.use(holdCtx, t)
		if err == nil {
			seen, err = l.poll(holdCtx, s, probe, what)
		}
		l.events <- Event{inLoop: func() { l.endHold(ctx, s, what, seen, err) }}
	})
}

// poll returns when the condition of a step holds, with the error of the last look before
// that; or with an error when it does not in time, or is not to go on.
func (l *loop) poll(ctx context.Context, s *plan.Step, probe func(context.Context) error, what string) (seen, err error) {
	hold := s.Task.HoldUntil
	limited, cancel := context.WithTimeout(ctx, hold.Timeout)
	defer cancel()
	for {
		now := probe(limited)
		switch {
		case now == nil:
			return seen, nil
		case limited.Err() == nil || seen == nil: // else it may have been cut short
			if seen == nil {
				l.events <- Event{Kind: StepHeld, Time: l.cfg.Now(), step: s, Text: []byte(l.cfg.Secrets.Text(what))}
			}
			seen = now
		}
		select {
		case <-time.After(hold.Every):
		case <-limited.Done():
		}
		if limited.Err() != nil {
			return seen, context.Cause(limited)
		}
	}
}

// endHold starts a step whose condition holds, or ends it.
func (l *loop) endHold(ctx context.Context, s *plan.Step, what string, seen, err error) {
	since := l.holdings[s].since
	l.holdings[s].cancel(nil)
	delete(l.holdings, s)
	took := l.cfg.Now().Sub(since)
	if err == nil {
		l.waited[s] = took
		l.ready.push(s)
		return
	}
	if r, known := l.withoutRunning(ctx, s); known {
		l.endUnstarted(r)
		return
	}
	r := Result{step: s, State: Stopped, Reason: "not started", Started: since, Took: took}
	var gone *ServiceError
	if errors.As(err, &gone) {
		r.State, r.Reason = Failed, gone.Error()
		r.Failure = &Failure{Span: s.Task.Span, Msg: r.Reason}
	}
	if errors.Is(err, context.DeadlineExceeded) {
		hold := s.Task.HoldUntil
		msg := l.cfg.Secrets.Text(fmt.Sprintf("waited %v until %s; last seen: %v", hold.Timeout, what, seen))
		r.State, r.Reason = Failed, msg
		r.Failure = &Failure{Span: hold.Span, Msg: msg}
	}
	l.endUnstarted(r)
}

// cancelHolds ends what waits and is not to start any more because of a failure.
func (l *loop) cancelHolds() {
	for s, h := range l.holdings {
		if by, _ := l.afterFailure(s); by != nil && l.triggered(s).level == plan.Ordinary {
			h.cancel(errAborted)
		}
	}
}

// waitedFor tells how long a step waited for its condition; empty: not for long.
func (l *loop) waitedFor(s *plan.Step) string {
	if took := l.waited[s]; took >= time.Second {
		return "waited " + took.Round(time.Second).String()
	}
	return ""
}

// probe returns a function that looks whether the condition of a step holds, and what the
// condition is in words. The texts are filled in at once, in the loop.
func (l *loop) probe(t task) (look func(context.Context) error, what string, err error) {
	s, hold := t.step, t.step.Task.HoldUntil
	var check service.Check
	var words []string
	if check.Port, err = s.Expand(hold.Port); err != nil {
		return nil, "", err
	}
	if check.Port != "" {
		if !strings.Contains(check.Port, ":") {
			check.Port = net.JoinHostPort("127.0.0.1", check.Port)
		}
		words = append(words, check.Port+" accepts connections")
	}
	if check.HTTP, err = s.Expand(hold.HTTP); err != nil {
		return nil, "", err
	}
	if check.HTTP != "" {
		words = append(words, check.HTTP+" answers")
	}
	file, err := s.Expand(hold.File)
	if err != nil {
		return nil, "", err
	}
	if file != "" {
		words = append(words, file+" is there")
		if !filepath.IsAbs(file) {
			file = filepath.Join(s.Task.File.Folder, filepath.FromSlash(file))
		}
	}
	if hold.Run.Value != "" {
		words = append(words, "this succeeds: "+firstLine(hold.Run))
		check.Run = func(ctx context.Context) error {
			_, err := Output(ctx, l.cfg.Exec, hold.Run, t.env, s.Folder, l.cfg.Grace)
			return err
		}
	}
	look = func(ctx context.Context) error {
		if file != "" {
			if _, err := os.Stat(file); err != nil {
				return errors.New("it is not there")
			}
		}
		return check.Probe(ctx)
	}
	return look, strings.Join(words, " and "), nil
}

func firstLine(script project.Text) string {
	first, _, _ := strings.Cut(strings.TrimSpace(script.Value), "\n")
	return first
}
