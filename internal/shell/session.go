package shell

import (
	"sync"
	"sync/atomic"
	"time"
)

// Session knows all that is started in it. Ending it ends what is left of that,
// and nothing else. The zero Session has no guard. It may be used from many goroutines.
type Session struct {
	mark  string // NAME=value, in the environment of all that it starts; empty: there is none
	guard guardian
	opens sync.Once
}

// NewSession returns a session. mark is a variable, as NAME=value, that is set in
// the environment of all that is started in it, and of nothing else. guard is how the
// guard is started, with the first program: a command that calls [Guard] with its
// standard input, its file 3 and mark. None: there is no guard.
func NewSession(guard []string, mark string) *Session {
	s := &Session{mark: mark}
	s.guard.command = guard
	return s
}

// sessions is how many sessions have started something and are not ended. Orphans
// come to the process, not to a session: with one session they are its own.
var sessions atomic.Int32

// handedOver are the processes that stay when sessions end.
var handedOver sync.Map // of int

func handOver(pid int) { handedOver.Store(pid, true) }

func isHandedOver(pid int) bool {
	_, yes := handedOver.Load(pid)
	return yes
}

// starts notes that the session starts something.
func (s *Session) starts() {
	s.opens.Do(func() { sessions.Add(1) })
	adoptOrphans()
	s.guard.ready()
}

// End ends what was started in the session and has left its group and its parent:
// first politely, then, after grace, the hard way. It returns when none is left.
// Nothing may run in the session any more.
func (s *Session) End(grace time.Duration) {
	started := true
	s.opens.Do(func() { started = false })
	if !started {
		return
	}
	s.guard.end()
	s.endAdopted(grace)
	sessions.Add(-1)
}
