package shell

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"
)

// processes are the programs that one script started. Each leads a group of
// its own, which takes in what it starts in turn.
type processes struct {
	session *Session

	grace time.Duration
	kill  <-chan struct{}
	tty   *terminal // that the script owns; nil: none

	active sync.WaitGroup // programs that have not ended

	mu       sync.Mutex    // protects the fields below
	left     []*group      // their leader has ended, something it started has not
	deadline chan struct{} // closed when what is left is to be killed
}

// process is one program to start.
type process struct {
	path           string
	args           []string
	dir            string
	env            []string
	stdin          io.Reader
	stdout, stderr io.Writer
	started        func()     // called once it runs; may be nil
	files          []*os.File // its descriptors from 3 on
}

// run starts p and waits for it, not for what it leaves behind. When ctx is
// done it ends the program and returns ctx's error.
func (ps *processes) run(ctx context.Context, p process) (ExitError, error) {
	ps.active.Add(1)
	defer ps.active.Done()
	g, err := ps.start(p)
	if err != nil {
		return startError(p, err), nil
	}
	// Waiting here, not in a goroutine of its own, saves waking one up.
	ended := make(chan struct{})
	stopped := make(chan struct{})
	callOff := context.AfterFunc(ctx, func() {
		defer close(stopped)
		g.signal(stopSignal(ctx))
		select {
		case <-ended:
		case <-ps.graceEnds():
			g.killAll()
		}
	})
	if p.started != nil {
		p.started()
	}
	err = g.cmd.Wait()
	close(ended)
	if !callOff() {
		<-stopped
	}
	if ps.tty != nil {
		ps.tty.ended()
		if exit := exitOf(err); exit.Signal == "SIGINT" && ctx.Err() == nil {
			ps.tty.interrupted(ctx)
		}
	} else if g.alive() {
		ps.mu.Lock()
		ps.left = append(ps.left, g)
		ps.mu.Unlock()
	} else {
		g.close()
	}
	if ctx.Err() != nil {
		return ExitError{}, ctx.Err()
	}
	return exitOf(err), nil
}

// start starts p in a group of its own, or in the foreground of the terminal
// that the script owns.
func (ps *processes) start(p process) (*group, error) {
	startGroup := ps.session.startGroup
	if ps.tty != nil {
		startGroup = func(cmd *exec.Cmd) (*group, error) { return ps.tty.start(ps.session, cmd) }
	}
	for delay := time.Millisecond; ; delay *= 2 {
		if p.stdin == nil {
			p.stdin = nothing()
		}
		cmd := &exec.Cmd{Path: p.path, Args: p.args, Dir: p.dir, Env: p.env, Stdin: p.stdin, Stdout: p.stdout, Stderr: p.stderr, ExtraFiles: p.files}
		g, err := startGroup(cmd)
		switch {
		case errors.Is(err, syscall.ENOEXEC) && p.path != posixShell:
			// A script without #!: run it as a shell script, as shells do.
			p.args = append([]string{posixShell, p.path}, p.args[1:]...)
			p.path = posixShell
		case errors.Is(err, syscall.EPERM) && ps.tty != nil && delay < 300*time.Millisecond:
			// The group that it was to join ended at that moment.
		case errors.Is(err, errTextBusy) && delay < 300*time.Millisecond:
			// Another process that is just being started may hold the file
			// open for writing, for a moment: https://go.dev/issue/22315.
			time.Sleep(delay)
		default:
			return g, err
		}
	}
}

// nothing is the null device, opened once: what has no input reads it.
var nothing = sync.OnceValue(func() io.Reader {
	file, err := os.Open(os.DevNull)
	if err != nil {
		return nil // os/exec then tries again, and tells
	}
	return file
})

// posixShell runs executable files that name no interpreter.
const posixShell = "/bin/sh"

// startError explains why p could not be started.
func startError(p process, err error) ExitError {
	name := p.args[0]
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return ExitError{Code: 127, Note: fmt.Sprintf("%q cannot be started: the interpreter named in its first line does not exist", name)}
	case errors.Is(err, syscall.E2BIG):
		return ExitError{Code: 126, Note: fmt.Sprintf("%q cannot be started: its arguments and environment are longer than the system allows", name)}
	}
	var path *fs.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	return ExitError{Code: 126, Note: fmt.Sprintf("%q cannot be started: %v", name, err)}
}

// exitOf turns the error of [exec.Cmd.Wait] into an exit code; 0 is no failure.
func exitOf(err error) ExitError {
	var exit *exec.ExitError
	switch {
	case err == nil:
		return ExitError{}
	case errors.As(err, &exit):
		return exitOfState(exit.ProcessState)
	}
	return ExitError{Code: 1, Note: err.Error()}
}

// anyLeft reports whether something that an ended program started has not ended.
func (ps *processes) anyLeft() bool {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	return len(ps.left) > 0
}

// wait returns when no process of the script is left. When ctx is done it
// ends them, with SIGTERM: a shell makes its jobs in the background deaf to
// SIGINT (POSIX, Shell Command Language, 2.11).
func (ps *processes) wait(ctx context.Context) {
	ps.active.Wait()
	if ps.tty != nil {
		ps.left = append(ps.left, ps.tty.groups...)
	}
	for _, g := range ps.left { // nothing is active, so nothing is added
		if !g.gone(ctx.Done()) {
			g.signal(terminate)
			if !g.gone(ps.graceEnds()) {
				g.killAll()
				g.gone(nil)
			}
		}
		g.close()
	}
}

// graceEnds returns a channel that is closed at the end of the grace time,
// which begins with the first call, or as soon as kill is closed.
func (ps *processes) graceEnds() <-chan struct{} {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if ps.deadline == nil {
		deadline := make(chan struct{})
		ps.deadline = deadline
		timer := time.NewTimer(ps.grace)
		go func() { // ends with the grace time, which is short
			defer close(deadline)
			select {
			case <-timer.C:
			case <-ps.kill:
			}
		}()
	}
	return ps.deadline
}
