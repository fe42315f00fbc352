//go:build unix

package shell

import (
	"context"
	"os"
	"os/exec"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// terminal is the terminal that a script owns. Its programs share a process
// group, which stands in the foreground while one of them runs: what is typed,
// Ctrl-C too, goes to them alone.
type terminal struct {
	file *os.File
	own  int // the process group of Tugline

	mu      sync.Mutex // protects the fields below
	group   int        // of the programs that run; 0: none
	running int
	groups  []*group // all that there were
}

// openTerminal returns the terminal that file is; nil if it is none, or if
// Tugline does not stand in its foreground.
func openTerminal(file *os.File) *terminal {
	if file == nil {
		return nil
	}
	front, err := unix.IoctlGetInt(int(file.Fd()), unix.TIOCGPGRP)
	if err != nil || front != syscall.Getpgrp() {
		return nil
	}
	return &terminal{file: file, own: front}
}

// start starts cmd in the foreground.
func (t *terminal) start(s *Session, cmd *exec.Cmd) (*group, error) {
	s.starts()
	t.mu.Lock()
	defer t.mu.Unlock()
	cmd.SysProcAttr = groupAttributes()
	cmd.SysProcAttr.Foreground, cmd.SysProcAttr.Ctty = true, int(t.file.Fd())
	if t.running > 0 {
		cmd.SysProcAttr.Pgid = t.group
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	g := &group{session: s, cmd: cmd, id: t.group}
	if t.running == 0 {
		t.group = cmd.Process.Pid
		g.id = t.group
		t.groups = append(t.groups, g)
		s.guard.add(g.id)
	}
	t.running++
	go t.follow(cmd.Process.Pid) // ends with the process
	return g, nil
}

// ended notes that a program has ended. After the last one Tugline is in the
// foreground again.
func (t *terminal) ended() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.running--; t.running == 0 {
		t.front(t.own)
	}
}

// front puts a process group in the foreground. One that is not there may only
// do so while it ignores SIGTTOU (POSIX, tcsetpgrp).
func (t *terminal) front(group int) {
	signal.Ignore(syscall.SIGTTOU)
	defer signal.Reset(syscall.SIGTTOU)
	unix.IoctlSetPointerInt(int(t.file.Fd()), unix.TIOCSPGRP, group) // best effort: the terminal may be gone
}

// interrupted passes on that Ctrl-C ended a program of the script: it was meant
// for the whole run. It returns when that is known, or soon.
func (t *terminal) interrupted(ctx context.Context) {
	syscall.Kill(os.Getpid(), syscall.SIGINT)
	select {
	case <-ctx.Done():
	case <-time.After(time.Second):
	}
}
