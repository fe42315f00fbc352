// Package engine runs a plan: processes and events out of ordered steps.
package engine

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"tugline/internal/cache"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/secret"
	"tugline/internal/shell"
)

// Config says how a plan is to be run. The zero value runs as many steps at
// once as there are processors, and tells nobody.
type Config struct {
	Jobs int // steps at once; 0: the number of processors
	Policy
	Observer
	Streams
	Processes
	Past
	// Cache tells what need not run, and is told what has. nil: all steps run,
	// and nothing is remembered.
	Cache   *cache.Cache
	Secrets *secret.Mask // masked in all that is told and printed; may be nil
	// List returns the values of a list that steps have made. It is called from many
	// goroutines. nil: the plan asks its request.
	List func(context.Context, plan.Listed) ([]string, error)
	Now  func() time.Time // nil: time.Now
}

// Policy says what a failure does to the other steps, as project.AfterFailure.
type Policy struct {
	After    string // in the whole run; empty: drain
	AfterAll string // in all failure scopes of the plan, too; empty: each has its own
}

// Observer is told what happens.
type Observer struct {
	Sink  Sink   // may be nil
	Idle  func() // called, by the goroutine of the sink, when it waits for the steps; may be nil
	Quiet bool   // do not tell of the statements that start
}

// Streams are the files that programs are given.
type Streams struct {
	Stdin, Stdout, Stderr *os.File    // handed to them as they are; where Stdout is nil, what they print goes to the sink
	Terminal              [3]*os.File // stdin, stdout and stderr of the terminal that is handed to tasks which own it
	// Record has what is printed to Stdout and Stderr go to the sink, too: there is
	// a pipe before them then.
	Record bool
}

// Processes says how scripts are run and ended.
type Processes struct {
	Exec  Exec            // nil: [shell.Session.Run] of a session without a guard
	Grace time.Duration   // from asking a program to end to killing it; 0: kill at once
	Kill  <-chan struct{} // closed: end what runs without the grace time; may be nil
	// Services are those that outlive the run. nil: none does.
	Services *Services
}

// Past is what is known of what steps did. All may be nil.
type Past struct {
	Times func(call string) time.Duration // what a call usually takes; 0: not known
	Log   func(*plan.Step) string         // where what a step printed is kept
	// ServiceLog returns what opens the file into which a service writes what it prints;
	// it fails until there is a place for it.
	ServiceLog func(*plan.Step) func() (*history.OwnLog, error)
}

// Run runs p and returns when all it started has ended. scripts comes from
// [Prepare] for the same plan. A failed step is no error: the summary tells
// of it. When ctx is done, what runs is ended, nothing more is started, and
// the error wraps ctx's cause.
func Run(ctx context.Context, p *plan.Plan, scripts *Scripts, cfg Config) (Summary, error) {
	if p == nil || scripts == nil {
		panic("engine.Run: nil plan or scripts")
	}
	if cfg.Jobs <= 0 {
		cfg.Jobs = runtime.GOMAXPROCS(0)
	}
	if cfg.Sink == nil {
		cfg.Sink = func(Event) {}
	}
	if cfg.Now == nil {
		cfg.Now = time.Now
	}
	if cfg.Exec == nil {
		cfg.Exec = new(shell.Session).Run
	}
	l := newLoop(p, scripts, cfg)
	l.prepareServices()
	l.run(ctx)
	return l.summary, context.Cause(ctx)
}

// loop owns all that changes in a run. Only its goroutine touches it; workers
// send it events.
type loop struct {
	cfg     Config
	plan    *plan.Plan
	scripts *Scripts
	events  chan Event
	work    chan task      // to the workers
	workers sync.WaitGroup // those that have not ended
	quit    chan struct{}  // closed when all steps have ended
	idle    int            // workers with nothing to do

	waits      []int             // by step: how many others it still waits for
	waiting    [][]*plan.Step    // by step: those that wait for it
	decides    [][]*plan.Trigger // by step: the triggers of which it is an owner
	triggers   map[*plan.Trigger]*triggerState
	state      []State  // by step: empty while it has not ended
	steps      []*Step  // by step: what is told of it; nil: nothing yet
	slots      []bool   // which are taken
	slotOf     []int    // by step: in which it ran, from 1; 0: in none
	moved      []bool   // by step: it did something, or what it stands for did
	queued     []bool   // by step: it is ready, or it has been
	ready      queue    // may start now
	unwanted   []Result // of steps that are to end without running
	running    int
	ended      int
	terminal   bool                         // what runs owns the terminal
	holdings   map[*plan.Step]*holding      // the steps that wait for their condition
	waited     map[*plan.Step]time.Duration // how long those waited that did, or need not
	emptyReads cache.EmptyReads             // of the steps that have ended
	summary    Summary

	failures map[*plan.FailureScope][]failure       // in the order in which they happened
	cancels  map[*plan.Step]context.CancelCauseFunc // of the steps that run
	final    context.Context                        // of what runs in spite of an interrupt; nil: not needed yet

	locks   map[string]holders
	inUse   map[*project.Task]int     // instances that run, of tasks of which only some may at once
	places  map[*plan.Step][]*place   // by the steps with whose end they are given back
	holders map[*plan.Step]*plan.Step // by the step with whose end they give back what they hold
	unlocks map[*plan.Step]func()     // by holder: what gives back its locks to other Tuglines
	held    []*plan.Step              // ready, but waiting for what others hold

	services *serving // nil: the plan has none
}

// task is a step that is to be run now.
type task struct {
	ctx    context.Context // done when it is to end
	step   *plan.Step
	env    []string
	inputs []plan.Input
	moved  bool     // a step it waits for has done something
	uses   []string // the IDs of the services that it uses
	locks  []string // to be taken from other Tuglines

	looks  bool            // it is only to be found out whether the step is going to run
	held   func(runs bool) // is told that in the loop
	failed error           // why its condition cannot be looked at
	looked bool            // that it is not skipped is known
	waited string          // how long it waited for its condition; empty: not for long
}

func newLoop(p *plan.Plan, scripts *Scripts, cfg Config) *loop {
	n := len(p.Steps)
	l := &loop{
		cfg: cfg, plan: p, scripts: scripts, events: make(chan Event, 64), work: make(chan task), quit: make(chan struct{}),
		waits: make([]int, n), waiting: make([][]*plan.Step, n), decides: make([][]*plan.Trigger, n), triggers: map[*plan.Trigger]*triggerState{}, state: make([]State, n), steps: make([]*Step, n), slots: make([]bool, cfg.Jobs), slotOf: make([]int, n), moved: make([]bool, n), queued: make([]bool, n),
		failures: map[*plan.FailureScope][]failure{}, cancels: map[*plan.Step]context.CancelCauseFunc{},
		locks: map[string]holders{}, inUse: map[*project.Task]int{}, places: map[*plan.Step][]*place{}, holdings: map[*plan.Step]*holding{}, waited: map[*plan.Step]time.Duration{},
		holders: map[*plan.Step]*plan.Step{}, unlocks: map[*plan.Step]func(){},
	}
	l.summary.Results = make([]Result, n)
	for _, s := range p.Steps {
		l.count(s)
	}
	l.rank(0)
	return l
}

func (l *loop) run(ctx context.Context) {
	started := l.cfg.Now()
	l.tell(Event{Kind: RunStarted, Time: started})
	l.removeVanished(ctx, l.plan.LoopedTasks())
	for _, s := range l.plan.Steps {
		l.startOrEnd(s)
	}
	for l.ended < len(l.plan.Steps) {
		l.startReady(ctx)
		if l.running == 0 && len(l.holdings) == 0 && !l.services.coming() {
			if l.ended < len(l.plan.Steps) && l.ready.len() == 0 && len(l.unwanted) == 0 {
				l.unstick()
			}
			continue // all that was ready has ended without running
		}
		e := l.next()
		if e.inLoop != nil {
			e.inLoop()
			continue
		}
		if e.answers != nil {
			l.running--
			l.leaveSlot(e.step)
			delete(l.cancels, e.step)
			if r := l.expand(ctx, e.step, e.answers); r != nil {
				l.endUnstarted(*r)
			}
			continue
		}
		if e.came != nil {
			l.serviceCame(*e.came)
			continue
		}
		if e.step != nil && e.step.Stays() {
			l.serviceEvent(e)
			continue
		}
		l.tell(e)
		if e.Kind == StepFinished {
			l.running--
			l.idle++
			l.terminal = false
			if e.unlock != nil {
				l.unlocks[e.step] = e.unlock
			}
			l.finish(e.Result)
		}
	}
	l.endServices(ctx)
	close(l.work)
	close(l.quit)
	l.workers.Wait()
	l.summary.Wall = l.cfg.Now().Sub(started)
	l.summary.EmptyReads = l.emptyReads.List(l.cfg.Cache)
	l.tell(Event{Kind: RunFinished, Time: l.cfg.Now(), Result: Result{State: l.outcomeOfAll(ctx), Took: l.summary.Wall}})
}

// outcomeOfAll returns how the run ended.
func (l *loop) outcomeOfAll(ctx context.Context) State {
	switch {
	case ctx.Err() != nil:
		return Stopped
	case len(l.summary.Failures()) > 0:
		return Failed
	}
	return Ran
}

// next returns the next event. If there is none yet, there is time for other work.
func (l *loop) next() Event {
	if l.cfg.Idle != nil {
		select {
		case e := <-l.events:
			return e
		default:
			l.cfg.Idle()
		}
	}
	select {
	case e := <-l.events:
		return e
	case e := <-l.services.events():
		return e
	}
}

// unstick goes on when nothing runs and nothing is ready. It comes to that when
// a step is to come after one of which it is not known whether anybody wants it,
// because that hangs on the step itself: such an order gives way. Otherwise,
// though the plan should not let it, steps wait for each other: one is ended.
func (l *loop) unstick() {
	var stuck *plan.Step
	for _, s := range l.plan.Steps {
		if l.state[s.Index] != "" || l.queued[s.Index] {
			continue
		}
		if stuck == nil {
			stuck = s
		}
		needs := slices.ContainsFunc(s.Needs, func(need *plan.Step) bool { return l.state[need.Index] == "" })
		if w := l.triggered(s); w.wanted && !needs {
			l.queued[s.Index] = true
			l.ready.push(s)
			return
		}
	}
	if stuck == nil { // the others wait for what somebody holds
		stuck = l.held[0]
	}
	l.queued[stuck.Index] = true
	l.endUnstarted(Result{step: stuck, State: Stopped, Reason: "it waits for what waits for it"})
}

func (l *loop) tell(e Event) {
	switch {
	case e.step == nil:
	case e.step.Index >= len(l.plan.Steps) || l.plan.Steps[e.step.Index] != e.step: // a service that the plan does not have any more
		e.Step = StepOf(e.step)
		e.Step.Index = -1
		e.Result.Step = e.Step
		l.cfg.Sink(e)
		return
	default:
		e.Step = l.told(e.step)
		e.Result.Step = e.Step
	}
	if e.Kind == StepFinished {
		e.Result = l.complete(e.Result)
		e.step.WaitsFor(func(other *plan.Step) { e.Needs = append(e.Needs, other.Index) })
	}
	l.cfg.Sink(e)
	if e.handled != nil {
		close(e.handled)
	}
}

// told returns what is told of a step.
func (l *loop) told(s *plan.Step) *Step {
	if l.steps[s.Index] == nil {
		l.steps[s.Index] = StepOf(s)
	}
	return l.steps[s.Index]
}

// complete returns r with what only the loop knows.
func (l *loop) complete(r Result) Result {
	r.Step, r.Slot = l.told(r.step), l.slotOf[r.step.Index]
	r.Whole = r.step.Skip != "" || r.step.Role == plan.Start
	return r
}

// takeSlot gives a step the first slot that is free.
func (l *loop) takeSlot(s *plan.Step) {
	at := slices.Index(l.slots, false)
	l.slots[at] = true
	l.slotOf[s.Index] = at + 1
}

func (l *loop) leaveSlot(s *plan.Step) {
	if at := l.slotOf[s.Index]; at > 0 {
		l.slots[at-1], l.slotOf[s.Index] = false, 0
	}
}

// startReady starts what may start now, or ends it without running.
func (l *loop) startReady(ctx context.Context) {
	for l.ready.len() > 0 || len(l.unwanted) > 0 {
		if len(l.unwanted) > 0 {
			r := l.unwanted[0]
			l.unwanted = l.unwanted[1:]
			l.endUnstarted(r)
			continue
		}
		s := l.ready.top()
		if r, known := l.withoutRunning(ctx, s); known {
			l.ready.pop()
			l.endUnstarted(r)
			continue
		}
		if s.Stays() {
			l.ready.pop()
			l.startService(ctx, s)
			continue
		}
		if l.running == l.cfg.Jobs || l.terminal || s.Task.Terminal && l.running > 0 {
			return
		}
		l.ready.pop()
		if s.Loop != nil {
			l.list(ctx, s)
			continue
		}
		if l.holds(s) {
			l.look(ctx, s)
			continue
		}
		l.start(ctx, s)
	}
}

// start hands a step to a worker, unless it has to wait for what others hold.
func (l *loop) start(ctx context.Context, s *plan.Step) {
	if waitsFor := l.hold(s); waitsFor != "" {
		l.tell(Event{Kind: StepWaiting, Time: l.cfg.Now(), step: s, Text: []byte(waitsFor)})
		l.held = append(l.held, s)
		return
	}
	l.running++
	l.takeSlot(s)
	l.terminal = s.Task.Terminal && s.Works()
	if s.Works() {
		l.tell(Event{Kind: StepStarted, Time: l.cfg.Now(), step: s})
	}
	ctx = l.contextFor(ctx, s)
	stepCtx, cancel := context.WithCancelCause(ctx)
	l.cancels[s] = cancel
	t := l.task(stepCtx, s)
	t.waited = l.waitedFor(s)
	_, t.looked = l.waited[s]
	for _, name := range s.Locks {
		if l.locks[name][0] == s {
			t.locks = append(t.locks, name)
		}
	}
	l.hand(t)
}

// hand hands a task to a worker.
func (l *loop) hand(t task) {
	if l.idle > 0 {
		l.idle--
	} else {
		l.workers.Go(l.worker)
	}
	l.work <- t
}

// task returns what is handed on of a step that starts.
func (l *loop) task(ctx context.Context, s *plan.Step) task {
	t := task{ctx: ctx, step: s, moved: l.afterMoved(s), uses: l.services.usedBy(s), env: append(s.Environ(), l.failureEnv(s)...)}
	if l.cfg.Cache != nil && s.Works() {
		t.inputs = s.Inputs()
	}
	return t
}

// contextFor returns the context in which a step runs. What cleans up is not ended by the
// first interrupt, whether it came before or comes while it runs.
func (l *loop) contextFor(ctx context.Context, s *plan.Step) context.Context {
	if ctx.Err() != nil || l.triggered(s).level == plan.Final {
		return l.finalContext(ctx)
	}
	return ctx
}

// finalContext returns a context for what runs after an interrupt. A second
// one ends it.
func (l *loop) finalContext(ctx context.Context) context.Context {
	if l.final != nil {
		return l.final
	}
	final, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	l.final = final
	l.workers.Go(func() {
		select {
		case <-l.cfg.Kill:
			cancel(context.Cause(ctx))
		case <-l.quit:
			cancel(nil)
		}
	})
	return final
}

// withoutRunning returns the result of a step that is not to be run.
func (l *loop) withoutRunning(ctx context.Context, s *plan.Step) (Result, bool) {
	if (s.Role == plan.Outcome || s.Role == plan.End) && s.Loop == nil {
		return l.outcome(s), true
	}
	r := Result{step: s, State: Ran}
	if bad := l.badNeed(s); bad != nil {
		how := "needs"
		if !slices.Contains(s.Needs, bad) {
			how = "comes after"
		}
		r.State, r.Reason = Blocked, fmt.Sprintf("%s %q, which %s", how, bad.Name, l.ending(bad))
		if l.state[bad.Index] == Stopped {
			r.State = Stopped
		}
		return r, true
	}
	level := l.triggered(s).level
	failed, _ := l.afterFailure(s)
	switch {
	case s.Skip != "":
		r.State, r.Reason = Skipped, s.Skip
	case s.Role == plan.Body && s.Task.IsGroup():
	case level == plan.Ordinary && failed != nil:
		r.State, r.Reason = Stopped, fmt.Sprintf("not started because %q failed", failed.Name)
	case level < plan.Final && ctx.Err() != nil, l.killed():
		r.State, r.Reason = Stopped, "not started"
	case s.Role == plan.Start && len(s.Locks) == 0 && !s.Limited && !asks(s):
	default:
		return r, false
	}
	return r, true
}

// asks reports whether a step has conditions that are asked, or waited for, when its
// needs have ended.
func asks(s *plan.Step) bool {
	return len(s.When) > 0 || s.Task.When.Run.Value != "" || s.Task.HoldUntil != nil
}

// killed reports whether all is to end at once.
func (l *loop) killed() bool {
	select {
	case <-l.cfg.Kill:
		return true
	default:
		return false
	}
}

// ending says in a sentence what became of s.
func (l *loop) ending(s *plan.Step) string {
	switch l.state[s.Index] {
	case Failed:
		return "failed"
	case Blocked:
		return "is blocked"
	}
	return "was stopped"
}

// badNeed returns a step that s waits for and that did not end well: one that
// failed before one that was blocked before one that was stopped.
func (l *loop) badNeed(s *plan.Step) *plan.Step {
	for _, state := range []State{Failed, Blocked, Stopped} {
		for _, others := range [][]*plan.Step{s.Needs, s.After} {
			for _, other := range others {
				if l.state[other.Index] == state {
					return other
				}
			}
		}
	}
	return nil
}

// afterMoved reports whether a step that s waits for, or that called it, did
// something.
func (l *loop) afterMoved(s *plan.Step) bool {
	did := func(other *plan.Step) bool { return l.moved[other.Index] }
	if slices.ContainsFunc(s.Needs, did) || slices.ContainsFunc(s.Called, did) || s.Previous != nil && did(s.Previous) {
		return true
	}
	return slices.ContainsFunc(s.Triggers, func(t *plan.Trigger) bool { return slices.ContainsFunc(t.Owners, did) })
}

func (l *loop) endUnstarted(r Result) {
	if r.step.Stays() && l.services.pool.get(r.step.ID()).alive() {
		l.tell(Event{Kind: RunNote, Time: l.cfg.Now(), Text: []byte(fmt.Sprintf("%s keeps running as it is: %s", r.step.Name, r.Reason))})
	} else {
		l.tell(Event{Kind: StepFinished, Time: l.cfg.Now(), step: r.step, Result: r})
	}
	l.finish(r)
}

// finish notes how a step ended and makes ready what waited for it.
func (l *loop) finish(r Result) {
	i := r.step.Index
	r = l.complete(r)
	l.leaveSlot(r.step)
	l.state[i], l.summary.Results[i] = r.State, r
	if r.step.Stays() {
		l.moved[i] = r.moved
	} else if r.step.Works() {
		l.moved[i] = r.State != Unchanged && r.State != Skipped
	} else {
		l.moved[i] = l.afterMoved(r.step)
	}
	if r.looked {
		l.emptyReads.Add(r.step, r.emptyReads)
	}
	l.summary.Busy += r.Took
	l.summary.Saved += r.Saved
	l.ended++
	if cancel := l.cancels[r.step]; cancel != nil {
		cancel(nil)
		delete(l.cancels, r.step)
	}
	l.release(r.step)
	if r.State == Failed && r.Failure != nil {
		l.noteFailure(r.step)
	}
	if r.step.Role == plan.Start && r.State != Ran {
		l.endCalls(r.step)
	}
	l.endUse(r.step)
	for _, s := range l.waiting[i] {
		if l.waits[s.Index]--; l.waits[s.Index] == 0 {
			l.startOrEnd(s)
		}
	}
	for _, t := range l.decides[i] {
		g := l.triggers[t]
		if g.open--; g.open == 0 {
			for _, s := range g.steps {
				l.startOrEnd(s)
			}
		}
	}
}
