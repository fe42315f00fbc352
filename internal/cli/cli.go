// Package cli is Tugline's command line: its commands and options, how the
// other packages are put together for them, and the exit codes.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"tugline/internal/engine"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/secret"
	"tugline/internal/session"
)

// Env is the world that a call of Tugline sees.
type Env struct {
	Args   []string // without the program's own name
	Vars   []string // the environment, as NAME=value
	Folder string   // absolute: where the user stands
	Stdin  *os.File
	Stdout *os.File
	Stderr *os.File
	Kill   <-chan struct{} // closed by the second interrupt: end what runs at once; may be nil
	// Program is the path of this program, to be started again as the guard of
	// what it starts. Empty: there is no guard.
	Program string
}

// The exit codes.
const (
	exitOK      = 0
	exitFailed  = 1 // a task failed, or a check found something
	exitUsage   = 2 // wrong use, or a bad project file
	exitMissing = 3 // a requirement or an interpreter is missing
	exitBroken  = 4 // Tugline itself could not go on
	exitSignal  = 128
)

// Interrupted is the cause of a context that a signal ended.
type Interrupted struct{ Sig syscall.Signal }

func (i Interrupted) Error() string { return i.Sig.String() }

// Signal returns the signal, which is passed on to what runs.
func (i Interrupted) Signal() os.Signal { return i.Sig }

// errFailed says that a task failed; the run has told of it already.
var errFailed = errors.New("a task failed")

// errInternal says that Tugline could not run a task; the run has told of it
// already.
var errInternal = errors.New("a task could not be run")

// usageError is a wrong use of the command line.
type usageError struct {
	msg  string
	hint string
}

func (e *usageError) Error() string { return e.msg }

// Main does what env.Args say and returns the exit code. When ctx is done, it
// ends what runs first; the cause should be an [Interrupted].
func Main(ctx context.Context, env Env) int {
	a := &app{env: env, runName: session.NewRunName(), stood: env.Folder, secrets: &secret.Mask{}}
	defer a.close()
	root := a.root()
	args := append([]string{}, env.Args...) // nil would mean os.Args
	if len(args) > 0 && isProjectPath(args[0]) {
		a.file, args = args[0], args[1:] // a project file that runs itself
	}
	root.SetArgs(args)
	return a.finish(ctx, root.ExecuteContext(ctx))
}

// close ends what was started and has not ended.
func (a *app) close() {
	if a.session != nil {
		a.session.Close()
	}
}

// isProjectPath reports whether a first word is the project file to use, as it
// is when a file runs that begins with #!/usr/bin/env tugline.
func isProjectPath(word string) bool {
	return strings.ContainsRune(filepath.ToSlash(word), '/') && strings.HasSuffix(word, ".toml")
}

// finish reports err where the user reads messages, and returns the exit code.
func (a *app) finish(ctx context.Context, err error) int {
	st := a.style(a.env.Stderr)
	var (
		interrupted Interrupted
		usage       *usageError
		wrong       project.Diagnostics
		noTask      *plan.CallError
		missing     *engine.MissingError
		required    *plan.RequiredError
		unreadable  *project.ReadError
		input       *session.InputError
	)
	switch {
	case err == nil, errors.Is(err, syscall.EPIPE): // who reads us has seen enough
		return exitOK
	case errors.As(context.Cause(ctx), &interrupted):
		return exitSignal + int(interrupted.Sig) // the run has told of it
	case errors.Is(err, errFailed):
		return exitFailed // as above
	case errors.Is(err, errInternal):
		return exitBroken // as above
	case errors.As(err, &missing), errors.As(err, &required):
		errors.As(err, &wrong) // both hold the findings
		a.tell(output.Diagnostics(wrong, st))
		return exitMissing
	case errors.As(err, &wrong):
		a.tell(output.Diagnostics(wrong, st))
		return exitUsage
	case errors.As(err, &noTask):
		a.say(noTask.Error(), noTaskHint(noTask))
		return exitUsage
	case errors.As(err, &usage):
		a.say(usage.msg, usage.hint)
		return exitUsage
	case errors.As(err, &input):
		a.say(input.Msg, "")
		return exitUsage
	case errors.Is(err, project.ErrNotFound):
		a.say(err.Error(), "tugline demo writes an example project; see tugline help for all commands")
		return exitUsage
	case errors.As(err, &unreadable) && !errors.Is(err, fs.ErrPermission):
		a.say(err.Error(), "")
		return exitUsage
	}
	a.say(err.Error(), "")
	return exitBroken
}

func noTaskHint(e *plan.CallError) string {
	if len(e.Near) == 0 {
		return "see tugline list for the tasks"
	}
	return project.Suggest(e.Near)
}

// say writes a message, with a hint on a line of its own.
func (a *app) say(msg, hint string) {
	a.tell("tugline: " + output.Line(msg) + "\n")
	if hint != "" {
		a.tell("  " + output.Line(hint) + "\n")
	}
}

// tell writes a message.
func (a *app) tell(text string) { fmt.Fprint(a.env.Stderr, a.secrets.Text(text)) }
