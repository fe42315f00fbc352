package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"tugline/internal/background"
	"tugline/internal/plan"
	"tugline/internal/service"
	"tugline/internal/shell"
)

// serving is what a run knows of the services of its plan.
type serving struct {
	pool    *Services
	steps   map[string]*plan.Step   // by ID
	asked   map[*plan.Step]bool     // they stay until the end
	used    map[*plan.Step][]string // by step: the IDs of the services that it uses
	pending int                     // how many come up
	came    map[*plan.Step]bool     // they are up, or will be when they are used
	mine    map[string]*running     // by ID: those of this run
	exited  bool                    // one ended by itself that stays
	ending  sync.WaitGroup
}

// prepareServices looks for the services of the plan.
func (l *loop) prepareServices() {
	l.noteServices(l.plan.Steps)
	if l.services == nil {
		return
	}
	for id, s := range l.services.steps {
		if l.services.pool.get(id).alive() {
			l.restartLast(s)
		}
	}
}

// noteServices notes which steps are services, and which use some.
func (l *loop) noteServices(steps []*plan.Step) {
	if l.services == nil {
		if !slices.ContainsFunc(steps, (*plan.Step).Stays) {
			return
		}
		pool := l.cfg.Services
		if pool == nil {
			pool = NewServices()
		}
		l.services = &serving{pool: pool, steps: map[string]*plan.Step{}, used: map[*plan.Step][]string{}, came: map[*plan.Step]bool{}, mine: map[string]*running{}}
	}
	v := l.services
	v.asked = l.plan.Asked()
	for _, s := range steps {
		if s.Stays() {
			v.steps[s.ID()] = s
		}
		for _, used := range s.Services() {
			id := used.ID()
			v.used[s] = append(v.used[s], id)
			if r := v.mine[id]; r != nil && s.Works() && !s.Stays() {
				r.needed++
			}
		}
	}
}

// restartLast has a service that runs already wait for all steps that do not wait for
// it: it is only started again if they end well.
func (l *loop) restartLast(s *plan.Step) {
	behind := map[*plan.Step]bool{s: true}
	for again := true; again; {
		again = false
		for _, other := range l.plan.Steps {
			if !behind[other] && waitsForOneOf(other, behind) {
				behind[other], again = true, true
			}
		}
	}
	for _, other := range l.plan.Steps {
		if !behind[other] && !other.Stays() && !slices.Contains(l.waiting[other.Index], s) {
			l.waits[s.Index]++
			l.waiting[other.Index] = append(l.waiting[other.Index], s)
		}
	}
}

func waitsForOneOf(s *plan.Step, steps map[*plan.Step]bool) bool {
	is := func(other *plan.Step) bool { return steps[other] }
	lists := [][]*plan.Step{s.Needs, s.After, s.AfterEnd, s.Called}
	for _, t := range s.Triggers {
		lists = append(lists, t.Owners)
	}
	return s.Previous != nil && is(s.Previous) || slices.ContainsFunc(lists, func(list []*plan.Step) bool { return slices.ContainsFunc(list, is) })
}

// The methods of a nil serving are those of a plan without services.

func (v *serving) coming() bool { return v != nil && v.pending > 0 }

func (v *serving) events() <-chan Event {
	if v == nil {
		return nil
	}
	return v.pool.events
}

func (v *serving) usedBy(s *plan.Step) []string {
	if v == nil {
		return nil
	}
	return v.used[s]
}

// use returns when all services are ready that a step uses.
func (v *serving) use(ctx context.Context, t task) error {
	for _, id := range t.uses {
		if err := v.pool.ensure(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// endUse notes that a step has ended, and stops the services that only it used. While
// there are instances that are not known yet, none is stopped: they may use it.
func (l *loop) endUse(s *plan.Step) {
	v := l.services
	if v == nil || v.pool.Keep || s.Stays() || !s.Works() {
		return
	}
	over := map[*running]bool{}
	for _, id := range v.used[s] {
		if r := v.mine[id]; r != nil {
			if r.needed--; r.needed == 0 && !r.kept {
				over[r] = true
			}
		}
	}
	isOpen := func(s *plan.Step) bool { return s.Loop != nil && l.state[s.Index] == "" }
	if len(over) > 0 && !slices.ContainsFunc(l.plan.Steps, isOpen) {
		v.ending.Go(func() { v.pool.stop(func(r *running) bool { return over[r] }, errNotNeeded) })
	}
}

// startService has a service come up, or makes it ready to be started by the first
// step that uses it.
func (l *loop) startService(ctx context.Context, s *plan.Step) {
	v := l.services
	v.pending++
	t := l.task(ctx, s)
	r, err := l.newRunning(t)
	v.mine[s.ID()] = r
	failed := slices.ContainsFunc(l.summary.Results, func(r Result) bool { return r.State == Failed })
	l.workers.Go(func() {
		came := Result{step: s, State: Ran}
		if err == nil {
			err = l.comeUp(ctx, t, r, failed, &came)
		}
		if err != nil {
			l.failService(ctx, &came, t.env, err)
		}
		l.events <- Event{step: s, came: &came}
	})
}

// failService makes a result that of a service which failed.
func (l *loop) failService(ctx context.Context, r *Result, env []string, err error) {
	var text = &r.step.Task.Ask // no text
	if len(r.step.Run) > 0 {
		text = &r.step.Run[0]
	}
	l.fail(ctx, r, text, env, err)
	if r.Failure != nil {
		r.Failure.Internal = false
	}
}

// comeUp has a service come up.
func (l *loop) comeUp(ctx context.Context, t task, r *running, failed bool, came *Result) error {
	skip, err := l.skips(ctx, t)
	if err != nil || skip != "" {
		came.State, came.Reason = Skipped, skip
		return err
	}
	if l.cfg.Cache != nil {
		if r.sum, err = l.cfg.Cache.Sum(t.step, t.inputs); err != nil {
			return err
		}
	}
	v, id := l.services, t.step.ID()
	was := v.pool.get(id)
	switch {
	case was.alive() && was.sum == r.sum && (!t.moved || t.step.Task.Service.Serve != nil):
		return was.service.Load().WaitReady(ctx)
	case was.alive() && failed:
		came.Reason = "keeps running as it is: another task failed"
		return nil
	case was.alive() && v.pool.Calm != nil && !v.pool.Calm(ctx):
		return nil // the next round does it
	case was.alive():
		v.pool.stop(func(other *running) bool { return other == was }, errNotNeeded)
	}
	v.pool.mu.Lock()
	v.pool.known[id] = r
	v.pool.mu.Unlock()
	if !v.asked[t.step] && was == nil {
		return nil // the first step that uses it starts it
	}
	came.moved = true
	err = v.pool.ensure(ctx, id)
	var gone *ServiceError
	switch own := r.service.Load(); {
	case own != nil && own.Err() != nil:
		return own.Err()
	case errors.As(err, &gone) && gone.Name == t.step.Name:
		return errors.New(gone.Reason)
	}
	return err
}

// newRunning returns the service of a step.
func (l *loop) newRunning(t task) (*running, error) {
	s, v := t.step, l.services
	r := &running{step: s, uses: t.uses, kept: v.asked[s] || v.pool.Keep}
	id := s.ID()
	for user, ids := range v.used {
		if user.Works() && !user.Stays() && l.state[user.Index] == "" && slices.Contains(ids, id) {
			r.needed++
		}
	}
	r.detaches = v.asked[s]
	for asked := range v.asked {
		r.detaches = r.detaches || slices.Contains(v.used[asked], id)
	}
	if l.cfg.ServiceLog != nil {
		r.log.open = l.cfg.ServiceLog(s)
	}
	r.spec = background.Spec{
		Entry:   background.Entry{ID: id, Name: s.Name, Task: s.Task.Name, Uses: t.uses, Asked: v.asked[s]},
		Restart: s.Task.Service.Restart, Timeout: s.Task.Service.Ready.Timeout, Secrets: l.cfg.Secrets.Values(),
	}
	if s.Task.Service.Serve != nil {
		return r, v.pool.pageServer(s, r)
	}
	ready := &s.Task.Service.Ready
	r.check = service.Check{Log: ready.Log, Timeout: ready.Timeout}
	var err error
	if r.check.Port, err = s.Expand(ready.Port); err != nil {
		return nil, err
	}
	if r.check.Port != "" && !strings.Contains(r.check.Port, ":") {
		r.check.Port = net.JoinHostPort("127.0.0.1", r.check.Port)
	}
	if r.check.HTTP, err = s.Expand(ready.HTTP); err != nil {
		return nil, err
	}
	if ready.Run.Value != "" {
		r.check.Text, _, _ = strings.Cut(strings.TrimSpace(ready.Run.Value), "\n")
		r.check.Run = func(ctx context.Context) error {
			_, err := Output(ctx, l.cfg.Exec, ready.Run, t.env, s.Folder, l.cfg.Grace)
			return err
		}
	}
	r.program = l.program(t, v.pool)
	l.describe(t, r)
	return r, nil
}

// describe fills in what a supervisor needs to run the scripts of a service.
func (l *loop) describe(t task, r *running) {
	spec, ready := &r.spec, &t.step.Task.Service.Ready
	spec.Port, spec.HTTP = r.check.Port, r.check.HTTP
	if ready.Log != nil {
		spec.Log = ready.Log.String()
	}
	grace := t.step.Task.Service.Grace
	if grace == 0 {
		grace = l.cfg.Grace
	}
	for i := range t.step.Run {
		cmd := l.command(t.step, &t.step.Run[i], t.env, nil)
		spec.Commands = append(spec.Commands, background.Command{Args: cmd.Args, Script: cmd.Script, Params: cmd.Params, Folder: cmd.Dir, Env: cmd.Env, Grace: grace})
	}
	if ready.Run.Value != "" {
		check, err := shell.Prepare(context.Background(), ready.Run.Value, shell.LookPath(t.env, t.step.Folder))
		if err == nil { // else the check fails
			spec.Check = &background.Command{Args: check.Args, Script: ready.Run.Value, Folder: t.step.Folder, Env: t.env, Grace: grace}
		}
	}
}

// program returns what runs the scripts of a service. It outlives the run.
func (l *loop) program(t task, pool *Services) func(ctx context.Context, output func([]byte)) error {
	return func(ctx context.Context, output func([]byte)) error {
		for i := range t.step.Run {
			cmd := l.command(t.step, &t.step.Run[i], t.env, nil)
			cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.Waiting = nil, nil, nil, nil
			cmd.Output = output
			if grace := t.step.Task.Service.Grace; grace > 0 {
				cmd.Grace = grace
			}
			if cmd.Statement != nil {
				text := t.step.Run[i].Value
				cmd.Statement = func(where shell.Stretch) {
					pool.send(Event{Kind: StepCommand, Time: time.Now(), step: t.step, Text: []byte(l.cfg.Secrets.Text(text[where.Offset : where.Offset+where.Length]))})
				}
			}
			if err := l.exec(ctx, cmd); err != nil {
				return err
			}
		}
		return nil
	}
}

// serviceCame takes note of a service that came up, or could not.
func (l *loop) serviceCame(r Result) {
	v := l.services
	for len(v.pool.events) > 0 { // what was told before
		l.serviceEvent(<-v.pool.events)
	}
	v.pending--
	v.came[r.step] = r.State == Ran
	switch {
	case r.State == Ran && r.Reason != "":
		l.tell(Event{Kind: RunNote, Time: l.cfg.Now(), Text: []byte(fmt.Sprintf("%s %s", r.step.Name, r.Reason))})
	case r.State != Ran:
		l.tell(Event{Kind: StepFinished, Time: l.cfg.Now(), step: r.step, Result: r})
	}
	l.finish(r)
}

// serviceEvent takes what happened to a service.
func (l *loop) serviceEvent(e Event) {
	v := l.services
	if v != nil && v.steps[e.step.ID()] != nil { // the plan in which it was started may be another one
		e.step = v.steps[e.step.ID()]
		e.Result.step = e.step
	}
	l.tell(e)
	if v == nil || e.service == nil {
		return // of one that the plan does not have any more
	}
	id := e.step.ID()
	switch e.Kind {
	case ServiceRestarting:
		l.failUsers(id, &ServiceError{e.step.Name, "failed while it was needed: " + string(e.Text)})
	case ServiceExited:
		l.serviceExited(e, v.steps[id])
	}
}

// serviceExited takes note of the end of a service; s is its step in this plan, nil
// if it has none.
func (l *loop) serviceExited(e Event, s *plan.Step) {
	v, r := l.services, e.service
	v.pool.mu.Lock()
	stopped := r.stopped
	v.pool.mu.Unlock()
	if s == nil || !v.came[s] {
		return // it could not come up, which is told otherwise, or is started again
	}
	err := r.service.Load().Err()
	result := Result{step: s, State: Stopped, Started: r.begun}
	needed := false
	if !stopped {
		needed = l.failUsers(e.step.ID(), &ServiceError{e.step.Name, goneReason(err)})
		v.exited = v.exited || v.asked[s]
		result.Reason = "ended by itself"
	}
	switch {
	case stopped:
	case err != nil:
		l.failService(context.Background(), &result, nil, err)
	case needed:
		l.failService(context.Background(), &result, nil, errors.New("ended while it was needed"))
	}
	result.Started, result.Took, result.Attempts = r.begun, e.Time.Sub(r.begun), r.attempts()
	l.tell(Event{Kind: StepFinished, Time: e.Time, step: e.step, Result: result})
	if result.State == Failed && l.state[s.Index] != Failed {
		result = l.complete(result)
		l.state[s.Index], l.summary.Results[s.Index] = Failed, result
		l.noteFailure(s)
	}
}

// failUsers ends the steps that run and use a service, with a cause. It reports
// whether any step uses it that has not ended.
func (l *loop) failUsers(id string, cause error) (needed bool) {
	for s, ids := range l.services.used {
		if l.state[s.Index] != "" || !s.Works() || s.Stays() || !slices.Contains(ids, id) {
			continue
		}
		needed = true
		if cancel := l.cancels[s]; cancel != nil {
			cancel(cause)
		}
	}
	return needed
}

// endServices lets those services stay that are asked for by name, and ends them.
func (l *loop) endServices(ctx context.Context) {
	v := l.services
	if v == nil {
		return
	}
	if v.pool.Keep {
		for _, s := range l.plan.Steps {
			if r := v.pool.get(s.ID()); s.Stays() && r.alive() {
				l.tell(Event{Kind: StepFinished, Time: l.cfg.Now(), step: s, Result: Result{step: s, State: Up, Started: r.begun, Took: time.Since(r.begun), Attempts: r.attempts()}})
			}
		}
		return
	}
	failed := len(l.summary.Failures()) > 0 && l.policy(nil) != "continue"
	for !failed && !v.exited && l.anyAsked() && ctx.Err() == nil {
		if l.cfg.Idle != nil {
			l.cfg.Idle()
		}
		select {
		case e := <-v.pool.events:
			l.serviceEvent(e)
		case <-ctx.Done():
		}
	}
	v.pool.End(context.Cause(ctx), l.serviceEvent)
	v.ending.Wait()
	for len(v.pool.events) > 0 {
		l.serviceEvent(<-v.pool.events)
	}
}

// anyAsked reports whether a service runs that is asked for by name.
func (l *loop) anyAsked() bool {
	for s := range l.services.asked {
		if l.services.pool.get(s.ID()).alive() {
			return true
		}
	}
	return false
}
