package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tugline/internal/background"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/serve"
	"tugline/internal/service"
	"tugline/internal/shell"
)

// Services are the services of one session. Those of a watch outlive its rounds. It
// may be used from many goroutines.
type Services struct {
	// Keep leaves services running when a run has ended.
	Keep bool
	// Calm waits until a service may be started again, and reports whether it is still
	// to be: not if something changed in the meantime. nil: it may at once.
	Calm func(ctx context.Context) bool

	// InBackground returns whether a service runs in the background, with a fingerprint
	// of a sum, and is ready. The error says that it cannot be used. nil: none does.
	InBackground func(ctx context.Context, s *plan.Step, sum string) (runs bool, err error)
	// Detach starts a service in the background, and returns when it is ready, with its
	// address. nil: services run in this process.
	Detach func(ctx context.Context, spec background.Spec) (address string, err error)
	// QRCode returns a picture of an address in the network, in text. nil: none is shown.
	QRCode func(address string) string

	events chan Event // what happens to them

	mu      sync.Mutex          // protects the fields below
	known   map[string]*running // by the ID of the step: those that were started, or may be
	started []*running          // in this order, while they run
	servers []*serve.Server     // that listen
}

// NewServices returns services of which none is started.
func NewServices() *Services {
	return &Services{events: make(chan Event, 64), known: map[string]*running{}}
}

// Events returns what happens to services between two runs. It must be drained.
func (p *Services) Events() <-chan Event { return p.events }

// running is a service that may be started, or was.
type running struct {
	step    *plan.Step
	sum     string   // of its fingerprint
	uses    []string // the IDs of the services that it uses
	kept    bool     // it is not stopped with the last step that uses it
	needed  int      // how many steps use it that have not ended; of the loop
	program func(ctx context.Context, output func([]byte)) error
	check   service.Check
	log     serviceLog

	detaches bool            // it is started in the background, if services are
	spec     background.Spec // for that
	outside  bool            // it runs in the background; protected by starting

	starting sync.Mutex                      // held while it is started
	service  atomic.Pointer[service.Service] // nil: it was never started
	begun    time.Time
	stopped  bool // we stopped it; protected by Services.mu
}

// serviceLog is the file for what a service prints.
type serviceLog struct {
	open  func() (*history.OwnLog, error) // nil: there is none
	file  *history.OwnLog
	early []byte // printed before the file could be opened
}

// maxEarly is how much of that is kept, in bytes.
const maxEarly = 64 << 10

// add writes what the service printed. That it cannot is no failure: it is shown.
func (l *serviceLog) add(text []byte) {
	if l.open == nil {
		return
	}
	if l.file == nil {
		l.early = append(l.early, text[:min(len(text), max(0, maxEarly-len(l.early)))]...)
		file, err := l.open()
		if err != nil {
			return // the record of the run begins in this moment, or there is none
		}
		l.file, text, l.early = file, l.early, nil
	}
	l.file.Write(text) // best effort, as above
}

func (l *serviceLog) close() {
	if l.file != nil {
		l.file.Close() // best effort, as above
	}
}

// alive reports whether the service runs.
func (r *running) alive() bool {
	if r == nil || r.service.Load() == nil {
		return false
	}
	select {
	case <-r.service.Load().Done():
		return false
	default:
		return true
	}
}

// attempts returns how often the service was started.
func (r *running) attempts() int { return 1 + r.service.Load().Status().Restarts }

// ServiceError says that a service which a step needs is gone.
type ServiceError struct {
	Name   string
	Reason string
}

func (e *ServiceError) Error() string {
	return fmt.Sprintf("the service %q %s", e.Name, e.Reason)
}

// get returns what is known of a service; nil: nothing.
func (p *Services) get(id string) *running {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.known[id]
}

// ensure returns when a service is ready, which it starts if it has never run.
func (p *Services) ensure(ctx context.Context, id string) error {
	r := p.get(id)
	if r == nil {
		return nil // it is skipped
	}
	for _, other := range r.uses {
		if err := p.ensure(ctx, other); err != nil {
			return err
		}
	}
	outside, err := p.startOnce(ctx, r)
	if err != nil {
		return &ServiceError{r.step.Name, err.Error()}
	}
	if outside {
		return nil
	}
	err = r.service.Load().WaitReady(ctx)
	if err != nil && ctx.Err() == nil {
		return &ServiceError{r.step.Name, goneReason(err)}
	}
	return err
}

// startOnce starts a service, unless it was started or runs in the background.
func (p *Services) startOnce(ctx context.Context, r *running) (outside bool, err error) {
	r.starting.Lock()
	defer r.starting.Unlock()
	if r.outside || r.service.Load() != nil {
		return r.outside, nil
	}
	if p.InBackground != nil {
		if r.outside, err = p.InBackground(ctx, r.step, r.sum); r.outside {
			p.send(Event{Kind: ServiceReady, Time: time.Now(), step: r.step, Text: []byte("runs in the background")})
		}
		if r.outside || err != nil {
			return r.outside, err
		}
	}
	if p.Detach == nil || !r.detaches {
		p.start(r)
		return false, nil
	}
	p.send(Event{Kind: StepStarted, Time: time.Now(), step: r.step})
	r.spec.Sum = r.sum
	address, err := p.Detach(ctx, r.spec)
	if err != nil {
		return false, err
	}
	r.outside = true
	p.send(Event{Kind: ServiceReady, Time: time.Now(), step: r.step, Text: []byte(address)})
	return true, nil
}

// goneReason says what became of a service, as the end of a sentence.
func goneReason(err error) string {
	var exit *shell.ExitError
	switch {
	case err == nil:
		return "ended while it was needed"
	case errors.As(err, &exit):
		return "failed while it was needed: " + err.Error()
	}
	return err.Error()
}

// start starts a service.
func (p *Services) start(r *running) {
	p.mu.Lock()
	p.started = append(p.started, r)
	p.mu.Unlock()
	r.begun = time.Now()
	r.log.add(nil) // it can be followed before anything is printed
	p.send(Event{Kind: StepStarted, Time: r.begun, step: r.step})
	r.service.Store(service.Start(service.Config{
		Run: r.program, Check: r.check, Restart: r.step.Task.Service.Restart, Tell: func(e service.Event) { p.tell(r, e) },
	}))
}

// tell hands on what happened to a service.
func (p *Services) tell(r *running, e service.Event) {
	out := Event{Time: e.Time, step: r.step, Text: []byte(e.Reason)}
	switch e.State {
	case "":
		out.Kind, out.Text = StepOutput, slices.Clone(e.Output)
		r.log.add(e.Output)
	case service.Ready:
		out.Kind = ServiceReady
		r.log.add(nil) // the record of the run may be there by now
	case service.Restarting:
		out.Kind = ServiceRestarting
	case service.Stopped, service.Failed:
		out.Kind = ServiceExited
		out.Result = Result{step: r.step, State: Stopped, Reason: e.Reason, Started: r.begun, Took: e.Time.Sub(r.begun)}
		if e.State == service.Failed {
			out.Result.State = Failed
		}
		p.mu.Lock()
		p.started = slices.DeleteFunc(p.started, func(other *running) bool { return other == r })
		p.mu.Unlock()
		r.log.close()
	}
	out.service = r
	p.send(out)
}

// stop stops services, each when those are gone that were started after it.
func (p *Services) stop(which func(*running) bool, cause error) {
	p.mu.Lock()
	var all []*running
	for _, r := range slices.Backward(p.started) {
		if which(r) {
			r.stopped = true
			all = append(all, r)
		}
	}
	p.mu.Unlock()
	for _, r := range all {
		r.starting.Lock()
		running := r.service.Load()
		r.starting.Unlock()
		running.Stop(cause)
		<-running.Done()
	}
}

// send tells of a service.
func (p *Services) send(e Event) {
	e.Step = StepOf(e.step)
	e.Result.Step = e.Step
	p.events <- e
}

// errNotNeeded is the cause of the end of a service that nothing needs any more.
var errNotNeeded = errors.New("it is not needed any more")

// End stops all services, and returns when they have ended. sink is told.
func (p *Services) End(cause error, sink Sink) {
	if cause == nil {
		cause = errNotNeeded
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		p.stop(func(*running) bool { return true }, cause)
	}()
	for {
		select {
		case e := <-p.events:
			sink(e)
			continue
		case <-done:
		}
		for len(p.events) > 0 {
			sink(<-p.events)
		}
		return
	}
}
