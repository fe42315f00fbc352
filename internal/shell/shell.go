// Package shell runs one script to its end, with all it started, in the
// built-in shell or in another interpreter.
package shell

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"
)

// Command is a script and what surrounds it.
type Command struct {
	Program *Program // for the built-in shell; or:
	Args    []string // an interpreter and its arguments, from [Interpreter]
	Script  string   // the text for the interpreter

	Params []string // the script's own arguments, "$@"
	Dir    string   // absolute; must be there
	Env    []string // the whole environment, as NAME=value

	Stdin *os.File // nil: nothing to read

	// Terminal is the one that the script owns: its programs stand in the
	// foreground of it. nil: none.
	Terminal *os.File

	// Stdout and Stderr are handed to the processes as they are. Where they
	// are nil, all output goes to Output instead, in the order it was written.
	Stdout, Stderr *os.File
	// Output is given what the script prints, piece by piece. It must not
	// keep the slice. Statement is told of each statement as it starts. Run
	// calls them one at a time, in the order of things; after a
	// Statement with Stdout set there is no such order. Both may be nil.
	Output    func(text []byte)
	Statement func(Stretch)

	Waiting func() // called when the script has ended and jobs in the background may have not; may be nil

	// Marks are variables of Env, as NAME=value, that nothing else has which runs at
	// the same time: when ctx is done, what left its group is found by them, where the
	// system shows the environment of a process. None: it is left.
	Marks []string

	Grace time.Duration   // from the first signal to the hard one
	Kill  <-chan struct{} // closed: do not wait for the grace time; may be nil
}

// Stretch is a part of a script, in bytes.
type Stretch struct{ Offset, Length int }

// ExitError says that a script failed.
type ExitError struct {
	Code    int     // 1 to 255; 128 and the signal's number for an end by a signal
	Signal  string  // the signal's name, if a signal ended the command
	Missing string  // the command's name, if there is no such command
	Note    string  // what Tugline knows beyond the code; may be empty
	Where   Stretch // the command that failed; Length is 0 when it is not known
	Whole   bool    // of an interpreter that tells no place: any line of the script may have failed
}

func (e *ExitError) Error() string {
	switch {
	case e.Note != "":
		return e.Note
	case e.Signal != "":
		return "ended by " + e.Signal
	}
	return fmt.Sprintf("exit code %d", e.Code)
}

// ErrNoFolder says that the folder to run in is not there.
var ErrNoFolder = errors.New("the folder does not exist")

// Run runs cmd and returns when it and all it started have ended: a job left
// in the background is waited for.
//
// If ctx is done first, Run passes the signal that is ctx's cause (SIGTERM, if
// it is none) to every process, kills what is left after cmd.Grace, and
// returns an error wrapping the cause. A script that fails gives an
// [*ExitError], a missing cmd.Dir [ErrNoFolder]. Run may be called from many goroutines.
func (s *Session) Run(ctx context.Context, cmd Command) error {
	if info, err := os.Stat(cmd.Dir); err != nil || !info.IsDir() {
		return fmt.Errorf("%w: %s", ErrNoFolder, cmd.Dir)
	}
	out := newStream(&cmd)
	cmd.Env = append(slices.Clip(cmd.Env), "PWD="+cmd.Dir)
	if s.mark != "" {
		cmd.Env = append(cmd.Env, s.mark)
	}
	procs := &processes{session: s, grace: cmd.Grace, kill: cmd.Kill, tty: openTerminal(cmd.Terminal)}
	var err error
	if cmd.Program != nil {
		err = runProgram(ctx, cmd, out, procs)
	} else {
		err = runInterpreter(ctx, cmd, out, procs)
	}
	if procs.anyLeft() && cmd.Waiting != nil {
		cmd.Waiting()
	}
	procs.wait(ctx)
	if ctx.Err() != nil && len(cmd.Marks) > 0 {
		endMarked(cmd.Marks, procs.graceEnds())
	}
	out.close()
	if cause := context.Cause(ctx); cause != nil {
		return fmt.Errorf("stopped: %w", cause)
	}
	return err
}

// signaler is a cause of a cancelled context that stands for a signal.
type signaler interface{ Signal() os.Signal }

// stopSignal returns the signal to pass on when ctx is done.
func stopSignal(ctx context.Context) os.Signal {
	var s signaler
	if errors.As(context.Cause(ctx), &s) {
		return s.Signal()
	}
	return terminate
}
