package shell

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// builtin is one run of a program in the built-in shell.
type builtin struct {
	cmd    Command
	procs  *processes
	out    *stream
	stderr ownStream // unwatched

	troubles troubles
	asked    atomic.Int64 // files that were asked for

	mu     sync.Mutex        // protects the fields below
	called int               // offset of the command that was called last; -1: none
	failed failure           // of the statement that runs now
	unread []unread          // of commands that are about to be called
	traps  map[string]string // by signal: what is run when it ends the script
}

// failure is a command that ended badly. The zero failure is none.
type failure struct {
	at int // offset in the script
	ExitError
}

// runProgram runs cmd.Program, one statement after the other.
func runProgram(ctx context.Context, cmd Command, out *stream, procs *processes) error {
	b := &builtin{cmd: cmd, procs: procs, out: out, stderr: ownStream{out, true}, traps: map[string]string{}}
	if cmd.Program.plain != nil {
		return b.runPlain(ctx)
	}
	runner, err := b.runner()
	if err != nil {
		return fmt.Errorf("setting up the built-in shell: %w", err)
	}
	pieces := cmd.Program.pieces(out.statements != nil)
	for i, piece := range pieces {
		where := b.start(piece)
		out.statement(where)
		err := runner.Run(ctx, piece)
		code, ends := b.troubles.take()
		if code != 0 {
			err = interp.ExitStatus(code)
		}
		if i < len(pieces)-1 && !runner.Exited() && !ends && ctx.Err() == nil && !isInternal(err) {
			continue
		}
		if ctx.Err() != nil {
			b.caught(ctx, runner)
		}
		err = b.result(err, where)
		if cmd.Program.jobs {
			if cmd.Waiting != nil {
				cmd.Waiting()
			}
			runner.Run(ctx, waitCommand()) // their status does not count
		}
		return err
	}
	return nil
}

// isInternal reports whether err is a failure of the shell, not of a command.
func isInternal(err error) bool {
	var status interp.ExitStatus
	return err != nil && !errors.As(err, &status)
}

// start notes that a piece begins, and returns where it stands.
func (b *builtin) start(piece syntax.Node) Stretch {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.called, b.failed = -1, failure{}
	return b.cmd.Program.span(piece)
}

// waitCommand is the parsed statement "wait".
var waitCommand = sync.OnceValue(func() *syntax.Stmt {
	file, err := syntax.NewParser().Parse(strings.NewReader("wait"), "")
	if err != nil {
		panic("shell.waitCommand: " + err.Error())
	}
	return file.Stmts[0]
})

// result turns what the library returned into an error of this package.
func (b *builtin) result(err error, where Stretch) error {
	if err == nil {
		return nil
	}
	var status interp.ExitStatus
	if !errors.As(err, &status) {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	exit := ExitError{Code: int(status), Where: where}
	at := b.called
	if b.failed.Code == exit.Code {
		exit, at = b.failed.ExitError, b.failed.at
		exit.Where = where
	}
	if why := b.troubles.why.Load(); why != nil {
		exit.Note, at = *why, -1 // the library does not tell where
	}
	if call, ok := b.cmd.Program.calls[at]; ok {
		exit.Where = Stretch{at, call.length}
	}
	if name := b.troubles.unset.Load(); name != nil && exit.Code == 1 {
		exit.Note = fmt.Sprintf("the variable %q is not set", *name)
		if place, ok := b.cmd.Program.reference(*name, at); ok {
			exit.Where = place
		}
	}
	return &exit
}

func (b *builtin) runner() (*interp.Runner, error) {
	stdout, stderr := ownStream{b.out, false}, ownStream{b.out, true}
	return interp.New(
		interp.Params(append([]string{"-e", "-u", "-o", "pipefail", "--"}, b.cmd.Params...)...),
		interp.Env(expand.ListEnviron(b.cmd.Env...)),
		interp.Dir(b.cmd.Dir),
		interp.StdIO(b.stdin(), b.watched(stdout, false), b.watched(stderr, true)),
		interp.CallHandler(b.call),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return b.exec }),
		interp.OpenHandler(b.open),
		interp.ReadDirHandler2(readFolder),
	)
}

func (b *builtin) stdin() io.Reader {
	if b.cmd.Stdin == nil {
		return nil
	}
	return b.cmd.Stdin
}

// watched returns w, with a look at what is written; messages tells that the
// shell's own go there.
func (b *builtin) watched(w io.StringWriter, messages bool) *watched {
	return &watched{w, &b.troubles, b.stderr, messages}
}

// call is told of each simple command, with its words expanded, before it runs.
func (b *builtin) call(ctx context.Context, args []string) ([]string, error) {
	if code, ends := b.troubles.take(); ends {
		return []string{"exit", strconv.Itoa(code)}, nil
	}
	if at := int(interp.HandlerCtx(ctx).Pos.Offset()); b.cmd.Program.callAt(at, args[0]) {
		b.mu.Lock()
		b.called = at
		b.mu.Unlock()
	}
	b.troubles.unset.Store(nil) // the script goes on, so they did no harm
	b.troubles.why.Store(nil)
	if b.openLate(interp.HandlerCtx(ctx)) != nil {
		return []string{statusCommand, "1"}, nil
	}
	return b.substitute(ctx, args)
}

// exec runs a program and notes how it failed.
func (b *builtin) exec(ctx context.Context, args []string) error {
	hc := interp.HandlerCtx(ctx)
	exit, err := ExitError{}, error(nil)
	switch args[0] {
	case numberCommand:
		return b.number(hc, args)
	case statusCommand:
		if code, _ := strconv.Atoi(args[1]); code != 0 { // it was written by us
			return interp.ExitStatus(code)
		}
		return nil
	}
	exit, err = b.program(ctx, hc, args)
	if err != nil || exit.Code == 0 {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if at := int(hc.Pos.Offset()); b.cmd.Program.callAt(at, args[0]) {
		b.failed = failure{ExitError: exit, at: at}
	}
	return interp.ExitStatus(exit.Code)
}

// program runs one external program. The error is for what ends the whole script.
func (b *builtin) program(ctx context.Context, hc interp.HandlerContext, args []string) (ExitError, error) {
	stdout, err := behind(hc.Stdout)
	if err != nil {
		return ExitError{}, err
	}
	stderr, err := behind(hc.Stderr)
	if err != nil {
		return ExitError{}, err
	}
	return b.find(ctx, hc.Env, process{
		args: args, dir: hc.Dir, env: exported(hc.Env), stdin: hc.Stdin, stdout: stdout, stderr: stderr,
	})
}

// find finds the program that p.args[0] names in env's PATH, and runs it.
func (b *builtin) find(ctx context.Context, env expand.Environ, p process) (ExitError, error) {
	path, err := interp.LookPathDir(p.dir, env, p.args[0])
	if err != nil {
		exit := notFound(p.args[0], p.dir)
		fmt.Fprintln(p.stderr, exit.Note) // a stream that is gone is no reason to fail otherwise
		return exit, nil
	}
	p.path = path
	exit, err := b.procs.run(ctx, p)
	if exit.Note != "" {
		fmt.Fprintln(p.stderr, exit.Note) // as above
	}
	return exit, err
}

// runPlain runs a script that is a single call of a program, with nothing in
// it for a shell to do.
func (b *builtin) runPlain(ctx context.Context) error {
	stdout, stderr, err := b.out.files()
	if err != nil {
		return err
	}
	where := b.cmd.Program.where
	b.out.statement(where)
	env := expand.FuncEnviron(func(name string) string { return variable(b.cmd.Env, name) })
	exit, err := b.find(ctx, env, process{
		args: b.cmd.Program.plain, dir: b.cmd.Dir, env: b.cmd.Env,
		stdin: b.stdin(), stdout: stdout, stderr: stderr, started: b.out.followOne,
	})
	if err != nil || exit.Code == 0 {
		return err
	}
	exit.Where = where
	return &exit
}

// notFound explains that the program called name cannot be run. 127 and 126
// are the codes that POSIX gives to "not found" and "found, but not executable".
func notFound(name, dir string) ExitError {
	if !strings.ContainsRune(name, '/') {
		return ExitError{Code: 127, Missing: name, Note: fmt.Sprintf("command %q not found on the PATH", name)}
	}
	full := name
	if !filepath.IsAbs(full) {
		full = filepath.Join(dir, name)
	}
	if info, err := os.Stat(full); err != nil {
		return ExitError{Code: 127, Note: fmt.Sprintf("there is no file %q to run", name)}
	} else if info.IsDir() {
		return ExitError{Code: 126, Note: fmt.Sprintf("%q is a folder, not a program", name)}
	}
	return ExitError{Code: 126, Note: fmt.Sprintf("the file %q may not be executed; give it the right with chmod +x", name)}
}

// exported returns the environment for a program.
func exported(env expand.Environ) []string {
	list := make([]string, 0, 64)
	env.Each(func(name string, v expand.Variable) bool {
		if !v.IsSet() {
			list = slices.DeleteFunc(list, func(pair string) bool { return strings.HasPrefix(pair, name+"=") })
		} else if v.Exported && v.Kind == expand.String {
			list = append(list, name+"="+v.String())
		}
		return true
	})
	return list
}

// open opens a file of a redirection. /dev/stdout and /dev/stderr are the
// script's own streams: opened by name they would be Tugline's, and be cut off.
func (b *builtin) open(ctx context.Context, path string, flag int, perm os.FileMode) (io.ReadWriteCloser, error) {
	path, at, isMarked := cutMark(path)
	switch {
	case isMarked && flag&os.O_WRONLY != 0:
		return &lateFile{b: b, ctx: ctx, path: path, at: at, flag: flag, perm: perm, order: b.asked.Add(1)}, nil
	case isMarked:
		return b.input(ctx, path, at, flag, perm)
	}
	return b.openFile(ctx, path, flag, perm)
}

func (b *builtin) openFile(ctx context.Context, path string, flag int, perm os.FileMode) (io.ReadWriteCloser, error) {
	hc := interp.HandlerCtx(ctx)
	switch path {
	case "/dev/stdout", "/dev/fd/1", "/proc/self/fd/1":
		return sharedStream{hc.Stdout}, nil
	case "/dev/stderr", "/dev/fd/2", "/proc/self/fd/2":
		return sharedStream{hc.Stderr}, nil
	}
	full := path
	if !filepath.IsAbs(full) {
		full = filepath.Join(hc.Dir, path)
	}
	if info, err := os.Stat(full); err == nil && info.Mode()&fs.ModeNamedPipe != 0 {
		return openPipe(ctx, full, flag, perm)
	}
	file, err := interp.DefaultOpenHandler()(ctx, path, flag, perm)
	var wrong *fs.PathError
	if errors.As(err, &wrong) {
		return nil, &fs.PathError{Op: wrong.Op, Path: path, Err: wrong.Err} // the path as it is written
	}
	if f, ok := file.(*os.File); ok && err == nil && flag&(os.O_WRONLY|os.O_RDWR) != 0 {
		return watchedFile{f, b.watched(f, false)}, nil
	}
	return file, err
}

// openPipe opens a named pipe, which takes until its other side is opened, and
// gives up when ctx is done.
func openPipe(ctx context.Context, path string, flag int, perm os.FileMode) (io.ReadWriteCloser, error) {
	type opened struct {
		file *os.File
		err  error
	}
	done := make(chan opened, 1)
	go func() {
		file, err := os.OpenFile(path, flag, perm)
		done <- opened{file, err}
	}()
	select {
	case o := <-done:
		return o.file, o.err
	case <-ctx.Done():
		// Open the other side, so that the goroutine comes to its end.
		if file, err := os.OpenFile(path, os.O_RDWR, 0); err == nil {
			defer file.Close()
			if o := <-done; o.err == nil {
				o.file.Close() // never used
			}
		}
		return nil, ctx.Err()
	}
}

// sharedStream is a stream that is closed by whoever opened it first.
type sharedStream struct{ io.Writer }

// behind returns the file behind w, which a program can be given as it is.
func behind(w io.Writer) (io.Writer, error) {
	switch s := w.(type) {
	case sharedStream:
		return behind(s.Writer)
	case watchedFile:
		return s.File, nil
	case *lateFile:
		if s.file == nil { // it is that of a command around this one, which has not come to it
			return s.b.stderr.file(true)
		}
		return behind(s.file)
	case *watched:
		if own, ok := s.to.(ownStream); ok {
			return own.file(own.isStderr)
		}
	}
	return w, nil
}

func (sharedStream) Read([]byte) (int, error) { return 0, io.EOF }
func (sharedStream) Close() error             { return nil }
