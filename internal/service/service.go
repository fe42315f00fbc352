// Package service keeps one program running: it waits until the program is ready,
// starts it again after a failure, and stops it. It knows no task.
package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
)

// State is what a service does.
type State string

// The states of a service.
const (
	Starting   State = "starting"
	Ready      State = "ready"
	Restarting State = "restarting" // it failed, and is started again after a pause
	Stopped    State = "stopped"    // it was stopped, or ended well
	Failed     State = "failed"
)

// How a service is started again.
const (
	firstPause  = 500 * time.Millisecond
	longest     = 30 * time.Second // each pause is twice as long as the one before, up to this
	healthy     = 10 * time.Minute // after so long in good health, pauses and failures count anew
	maxFailures = 10               // in a row
)

// Config says what is kept running.
type Config struct {
	// Run runs the program to its end. What it prints goes to output, which must not
	// keep the slice.
	Run     func(ctx context.Context, output func(text []byte)) error
	Check   Check
	Restart bool // after it failed
	// Tell is told what happens, by one goroutine at a time. It must return before the
	// service goes on.
	Tell func(Event)
}

// Event is something that happened to a service: a new state, or output.
type Event struct {
	Time   time.Time
	State  State  // empty: Output tells what it printed
	Reason string // of Restarting and Failed
	Output []byte
}

// Status is how a service is.
type Status struct {
	State    State
	Since    time.Time
	Restarts int
}

// Service is a program that is kept running. It may be used from many goroutines.
type Service struct {
	cfg  Config
	stop context.CancelCauseFunc
	done chan struct{}

	telling sync.Mutex // held while Tell is called
	mu      sync.Mutex // protects the fields below
	status  Status
	changed chan struct{} // closed with the next state
	err     error         // why it failed; set before done is closed
}

// Start starts a service.
func Start(cfg Config) *Service {
	ctx, stop := context.WithCancelCause(context.Background())
	s := &Service{cfg: cfg, stop: stop, done: make(chan struct{}), changed: make(chan struct{})}
	s.status = Status{State: Starting, Since: time.Now()}
	go s.keep(ctx)
	return s
}

// Done returns a channel that is closed when the service has ended for good.
func (s *Service) Done() <-chan struct{} { return s.done }

// Err returns why a service failed that is done; nil: it was stopped, or ended well.
func (s *Service) Err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Stop has the service end; cause is that of the context of its program. It does not
// wait for that.
func (s *Service) Stop(cause error) { s.stop(cause) }

// Status returns how the service is now.
func (s *Service) Status() Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.status
}

// errEnded says that a service ended well before it was ready, or is needed no more.
var errEnded = errors.New("it ended")

// WaitReady returns when the service is ready. The error is that of ctx, or why the
// service failed.
func (s *Service) WaitReady(ctx context.Context) error {
	for {
		s.mu.Lock()
		state, changed, err := s.status.State, s.changed, s.err
		s.mu.Unlock()
		switch state {
		case Ready:
			return nil
		case Failed:
			return err
		case Stopped:
			return errEnded
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// enter tells and notes a new state: who waits for it knows that it was told.
func (s *Service) enter(state State, reason string) {
	now := time.Now()
	s.telling.Lock()
	defer s.telling.Unlock()
	s.cfg.Tell(Event{Time: now, State: state, Reason: reason})
	s.mu.Lock()
	s.status.State, s.status.Since = state, now
	if state == Restarting {
		s.status.Restarts++
	}
	close(s.changed)
	s.changed = make(chan struct{})
	s.mu.Unlock()
}

// keep keeps the program running until ctx is done or it has ended for good.
func (s *Service) keep(ctx context.Context) {
	defer close(s.done)
	pause, failures := firstPause, 0
	for {
		ready, err := s.once(ctx, failures == 0)
		switch {
		case ctx.Err() != nil, err == nil:
			s.enter(Stopped, "")
			return
		case !s.cfg.Restart || errors.As(err, new(*TakenError)) && failures == 0:
			s.fail(err)
			return
		}
		if !ready.IsZero() && time.Since(ready) >= healthy {
			pause, failures = firstPause, 0
		}
		if failures++; failures == maxFailures {
			s.fail(fmt.Errorf("%w; it failed %d times in a row", err, failures))
			return
		}
		s.enter(Restarting, fmt.Sprintf("%v; starting again in %v", err, pause))
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			s.enter(Stopped, "")
			return
		}
		pause = min(2*pause, longest)
	}
}

func (s *Service) fail(err error) {
	s.mu.Lock()
	s.err = err
	s.mu.Unlock()
	s.enter(Failed, err.Error())
}

// errNotReady is the cause of the end of a program that was not ready in time.
var errNotReady = errors.New("not ready in time")

// once runs the program once. It returns since when it was ready; zero: it never was.
func (s *Service) once(ctx context.Context, first bool) (ready time.Time, err error) {
	if err := s.cfg.Check.taken(); err != nil && first {
		return ready, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	log := s.cfg.Check.newLogCheck()
	checked := make(chan struct{})
	go func() {
		defer close(checked)
		switch err := s.cfg.Check.wait(ctx, log); {
		case err == nil && ctx.Err() == nil:
			ready = time.Now()
			s.enter(Ready, "")
		case ctx.Err() == nil:
			cancel(errNotReady)
		}
	}()
	err = s.cfg.Run(ctx, func(text []byte) {
		log.add(text)
		s.telling.Lock()
		defer s.telling.Unlock()
		s.cfg.Tell(Event{Time: time.Now(), Output: text})
	})
	timedOut := errors.Is(context.Cause(ctx), errNotReady)
	cancel(nil)
	<-checked
	if timedOut {
		return ready, fmt.Errorf("was not ready within %v: %s", s.cfg.Check.timeout(), s.cfg.Check)
	}
	return ready, err
}
