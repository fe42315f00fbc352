//go:build unix

package shell

import (
	"os"
	"os/exec"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// terminate is the polite signal to end.
const terminate = syscall.SIGTERM

// errTextBusy says that a file to execute is open for writing.
const errTextBusy = syscall.ETXTBSY

// group is a program and all it started, as far as that stayed in its process
// group.
type group struct {
	session *Session
	cmd     *exec.Cmd
	id      int
}

// startGroup starts cmd as the leader of a new process group.
func (s *Session) startGroup(cmd *exec.Cmd) (*group, error) {
	s.starts()
	cmd.SysProcAttr = groupAttributes()
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	s.guard.add(cmd.Process.Pid)
	return &group{session: s, cmd: cmd, id: cmd.Process.Pid}, nil
}

// signal passes sig to every process of g.
func (g *group) signal(sig os.Signal) {
	if s, ok := sig.(syscall.Signal); ok {
		syscall.Kill(-g.id, s) // fails only when all have ended
	}
}

// killAll ends every process of g.
func (g *group) killAll() { g.signal(syscall.SIGKILL) }

// alive reports whether a process of g is left, and buries those that have
// ended and were left to us.
func (g *group) alive() bool {
	for {
		if err := syscall.Kill(-g.id, 0); err == syscall.ESRCH {
			return false
		}
		pid, err := syscall.Wait4(-g.id, nil, syscall.WNOHANG, nil)
		if pid <= 0 && err != syscall.EINTR {
			return true
		}
	}
}

// gone waits until no process of g is left, and gives up when stop is closed.
// The system tells nobody but the parent of a process's end, so it is asked.
func (g *group) gone(stop <-chan struct{}) bool {
	for pause := time.Millisecond; g.alive(); pause = min(2*pause, 50*time.Millisecond) {
		select {
		case <-stop:
			return false
		case <-time.After(pause):
		}
	}
	return true
}

// close gives up the group. All of it has ended.
func (g *group) close() { g.session.guard.remove(g.id) }

// exitOfState reads how a process ended. A program ended by a closed pipe has
// done what was asked of it.
func exitOfState(state *os.ProcessState) ExitError {
	status, ok := state.Sys().(syscall.WaitStatus)
	if !ok || !status.Signaled() {
		return ExitError{Code: state.ExitCode()}
	}
	if status.Signal() == syscall.SIGPIPE {
		return ExitError{}
	}
	return ExitError{Code: 128 + int(status.Signal()), Signal: unix.SignalName(status.Signal())}
}
