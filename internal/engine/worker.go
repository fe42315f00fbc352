package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tugline/internal/cache"
	"tugline/internal/fingerprint"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/service"
	"tugline/internal/shell"
)

// worker runs one step after the other. It stays, since its stack has grown
// to what the built-in shell needs.
func (l *loop) worker() {
	for t := range l.work {
		l.runStep(t.ctx, t)
	}
}

// runStep does with a step what is to be done, and sends what happens.
func (l *loop) runStep(ctx context.Context, t task) {
	if t.looks {
		l.lookAt(ctx, t)
		return
	}
	started := l.cfg.Now()
	r := Result{step: t.step, State: Ran}
	unlock, err := l.lockFiles(ctx, t.step, t.locks)
	if err == nil {
		err = l.judgeAndRun(ctx, t, &r)
	}
	if err != nil {
		l.fail(ctx, &r, nil, t.env, err)
	}
	if t.waited != "" {
		r.note(t.waited)
	}
	now := l.cfg.Now()
	r.Started, r.Took = started, now.Sub(started)
	l.events <- Event{Kind: StepFinished, Time: now, step: t.step, Result: r, unlock: unlock}
}

func (l *loop) judgeAndRun(ctx context.Context, t task, r *Result) error {
	skip, err := "", error(nil)
	if !t.looked {
		skip, err = l.skips(ctx, t)
	}
	switch {
	case err != nil:
		l.fail(ctx, r, &t.step.Task.When.Run, t.env, err)
	case skip != "":
		r.State, r.Reason = Skipped, skip
	case !t.step.Works():
	case l.cfg.Cache == nil:
		l.events <- Event{Kind: StepActs, Time: l.cfg.Now(), step: t.step}
		if err := l.services.use(ctx, t); err != nil {
			return err
		}
		l.runScripts(ctx, t, r, nil)
	default:
		return l.decideAndRun(ctx, t, r)
	}
	return nil
}

// errAborted is the cause of a context that a failure ended.
var errAborted = errors.New("stopped")

// timeoutError says that an attempt took longer than it may.
type timeoutError time.Duration

func (e timeoutError) Error() string {
	return fmt.Sprintf("timed out after %v", time.Duration(e))
}

// runScripts runs the scripts of a step, one after the other, and again while
// they fail and the task is to be tried again.
func (l *loop) runScripts(ctx context.Context, t task, r *Result, kept *printed) {
	retry := t.step.Task.Retry
	wait := retry.Wait
	for r.Attempts = 1; ; r.Attempts++ {
		text, err := l.attempt(ctx, t, kept)
		if err == nil {
			if r.Attempts > 1 {
				r.Reason = strings.TrimPrefix(fmt.Sprintf("%s; attempt %d", r.Reason, r.Attempts), "; ")
			}
			return
		}
		if ctx.Err() != nil || r.Attempts > retry.Times || !retriedAfter(retry, err) {
			l.fail(ctx, r, text, t.env, err)
			return
		}
		told := fmt.Sprintf("attempt %d of %d failed, %v; retrying", r.Attempts, retry.Times+1, err)
		if wait > 0 {
			told += " in " + wait.String()
		}
		l.events <- Event{Kind: StepRetry, Time: l.cfg.Now(), step: t.step, Text: []byte(l.cfg.Secrets.Text(told))}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		if ctx.Err() != nil {
			l.fail(ctx, r, text, t.env, err)
			return
		}
		wait = time.Duration(float64(wait) * retry.Factor)
	}
}

// retriedAfter reports whether a failure is one after which a task is tried again.
func retriedAfter(retry *project.Retry, err error) bool {
	var exit *shell.ExitError
	return len(retry.On) == 0 || errors.As(err, &exit) && slices.Contains(retry.On, exit.Code)
}

// attempt runs the scripts of a step once. It returns the one that failed.
func (l *loop) attempt(ctx context.Context, t task, kept *printed) (*project.Text, error) {
	limit := t.step.Task.Timeout
	ctx, cancel := withTimeout(ctx, limit)
	defer cancel()
	for i := range t.step.Run {
		text := &t.step.Run[i]
		cmd := l.command(t.step, text, t.env, kept)
		var last lastPrinted
		if cmd.Args != nil {
			tell := cmd.Output
			cmd.Output = func(p []byte) {
				last.add(p)
				tell(p)
			}
		}
		err := l.exec(ctx, cmd)
		last.place(text, err)
		if err != nil && timedOut(ctx) {
			err = timeoutError(limit)
		}
		if err != nil {
			return text, err
		}
	}
	return nil, nil
}

// withTimeout returns a context that ends after limit; 0: there is none.
func withTimeout(ctx context.Context, limit time.Duration) (context.Context, context.CancelFunc) {
	if limit == 0 {
		return ctx, func() {}
	}
	return context.WithTimeout(ctx, limit)
}

// timedOut reports whether the limit of a context ended it.
func timedOut(ctx context.Context) bool {
	return errors.Is(context.Cause(ctx), context.DeadlineExceeded)
}

// decideAndRun decides whether a step must run, and runs or restores it.
func (l *loop) decideAndRun(ctx context.Context, t task, r *Result) error {
	m := l.cfg.Cache
	v, err := m.Decide(ctx, t.step, t.inputs, t.moved)
	if err != nil {
		return err
	}
	if v.Action != cache.UpToDate {
		unlock, waited, err := m.Acquire(ctx, t.step, func(what string) { l.wait(t.step, what) })
		if err != nil {
			return err
		}
		defer unlock()
		if waited || m.IsStale(t.step, &v) { // another one may have run it
			m.Files.InvalidateAll()
			if v, err = m.Decide(ctx, t.step, t.inputs, t.moved); err != nil {
				return err
			}
		}
	}
	r.Reasons, r.DoneBefore, r.Sum = v.Reasons, v.Finished, v.Sum()
	r.emptyReads, r.looked = v.EmptyReads, m.Round == nil || v.Action != cache.UpToDate
	r.Reason = l.cfg.Secrets.Text(summary(v.Reasons)) // names of files may hold a secret
	if v.Action == cache.UpToDate {
		r.State, r.Saved = Unchanged, v.Saved
		return nil
	}
	l.events <- Event{Kind: StepActs, Time: l.cfg.Now(), step: t.step}
	switch v.Action {
	case cache.ToRestore:
		done, aside, err := m.Restore(ctx, t.step, &v, t.inputs)
		r.noteAside(aside)
		if done && err == nil {
			r.State, r.Saved, r.Sum = Restored, v.Saved, v.Sum()
			return nil
		}
		if ctx.Err() != nil {
			return err
		}
		if err != nil { // it can still be made
			r.note(err.Error())
		}
	}
	return l.runAndKeep(ctx, t, r, &v)
}

// note adds to the reason of a result what the user should know in any case.
func (r *Result) note(text string) {
	r.Reason = strings.TrimPrefix(r.Reason+"; "+text, "; ")
	r.Noted = true
}

// noteAside tells where that is which stood in the way of outputs; empty: nothing did.
func (r *Result) noteAside(folder string) {
	if folder != "" {
		r.note("existing files were moved to " + folder)
	}
}

// runAndKeep runs a step and remembers what it left.
func (l *loop) runAndKeep(ctx context.Context, t task, r *Result, v *cache.Decision) error {
	m := l.cfg.Cache
	if err := l.services.use(ctx, t); err != nil {
		return err
	}
	if !cache.Declares(t.step) {
		l.runScripts(ctx, t, r, nil)
		m.Files.InvalidateAll()
		return nil
	}
	aside, err := m.Begin(t.step, v)
	r.noteAside(aside)
	if err != nil {
		return err
	}
	started := l.cfg.Now()
	printed := &printed{}
	l.runScripts(ctx, t, r, printed)
	m.Files.InvalidateAll()
	if r.State != Ran {
		m.NoteListed(t.step)
		return nil
	}
	log := printed.bytes()
	if l.cfg.Stdout != nil && !l.cfg.Record {
		log = nil // it was printed past us
	}
	kept, err := m.Keep(ctx, t.step, v, cache.Success{Inputs: t.inputs, Took: l.cfg.Now().Sub(started), Log: log, Listed: func(paths []string) error { return l.checkListed(t.step, paths) }})
	r.Sum = v.Sum()
	if kept.Changed != "" {
		r.Reason = ""
		r.note(l.cfg.Secrets.Text(fmt.Sprintf("but %s changed meanwhile: not recorded, it runs again next time", kept.Changed)))
	}
	for _, text := range []string{kept.NotStored, l.cfg.Secrets.Text(kept.Stale)} {
		if text != "" {
			r.note(text)
		}
	}
	return err
}

// checkListed returns an error if a task writes one of the files that the depfile of a step
// lists, and nothing orders it before the step. The plan is the loop's.
func (l *loop) checkListed(s *plan.Step, paths []string) error {
	found := make(chan error, 1)
	l.events <- Event{inLoop: func() {
		t, path := l.plan.Unordered(s, paths)
		if t == nil {
			found <- nil
			return
		}
		text := s.Task.Depfile
		found <- &cache.OutputError{Text: text, Msg: fmt.Sprintf(
			"its depfile lists %s, which task %q writes, and nothing orders that before it: name it in needs, or the file in reads", path, t.Name)}
	}}
	return <-found
}

// summary returns reasons in few words.
func summary(reasons []fingerprint.Reason) string {
	if len(reasons) == 0 || reasons[0].Kind == "undeclared" {
		return ""
	}
	if len(reasons) == 1 {
		return reasons[0].Text
	}
	return fmt.Sprintf("%s, and %d more", reasons[0].Text, len(reasons)-1)
}

func (l *loop) wait(s *plan.Step, what string) {
	l.events <- Event{Kind: StepWaiting, Time: l.cfg.Now(), step: s, Text: []byte(what)}
}

// exec runs cmd, with what must not be shown masked in what it prints.
func (l *loop) exec(ctx context.Context, cmd shell.Command) error {
	switch {
	case cmd.Terminal != nil:
		return l.cfg.Exec(ctx, cmd)
	case cmd.Stdout != nil && l.cfg.Record:
		return l.execMasked(ctx, cmd, cmd.Output)
	case l.cfg.Secrets.Empty():
		return l.cfg.Exec(ctx, cmd)
	case cmd.Stdout != nil:
		return l.execMasked(ctx, cmd, nil)
	}
	masked := l.cfg.Secrets.Writer(cmd.Output)
	cmd.Output = func(p []byte) { masked.Write(p) }
	err := l.cfg.Exec(ctx, cmd)
	masked.Flush()
	return err
}

func (l *loop) fail(ctx context.Context, r *Result, text *project.Text, env []string, err error) {
	var gone *ServiceError
	if errors.As(context.Cause(ctx), &gone) {
		err, text = gone, nil
	} else if ctx.Err() != nil {
		r.State, r.Reason = Stopped, "interrupted"
		if cause := context.Cause(ctx); errors.Is(cause, errAborted) {
			r.Reason = cause.Error()
		}
		return
	}
	r.State, r.Reason = Failed, l.cfg.Secrets.Text(err.Error())
	r.Failure = &Failure{Span: r.step.Task.Span, Msg: r.Reason}
	if r.Attempts > 1 {
		r.Reason += fmt.Sprintf(", after %d attempts", r.Attempts)
	}
	if text != nil && !text.Span.IsZero() {
		r.Failure.Span = text.Span
	}
	var exit *shell.ExitError
	var output *cache.OutputError
	var timeout timeoutError
	var taken *service.TakenError
	switch {
	case errors.As(err, &timeout), errors.As(err, &gone), errors.As(err, &taken):
	case errors.As(err, &output):
		r.Failure.Span = output.Text.Span
	case errors.As(err, &exit):
		r.Failure.Code = exit.Code
		r.Failure.Span = text.At(exit.Where.Offset, exit.Where.Length)
		if exit.Whole {
			r.Failure.Span = text.Span
			r.Failure.Hint = "somewhere in this script"
		}
		if rest := r.step.Task.RestArg(); rest != nil && exit.Note == fmt.Sprintf("the variable %q is not set", rest.Variable()) {
			r.Failure.Hint = `the words behind -- are "$@"`
		}
		if exit.Missing != "" {
			r.Failure.Hint = project.DidYouMean(exit.Missing, shell.Commands(env))
		}
	case errors.Is(err, shell.ErrNoFolder):
		if !r.step.Task.Folder.Span.IsZero() {
			r.Failure.Span = r.step.Task.Folder.Span
		}
	default:
		r.Failure.Internal = true
	}
}

// marksOf returns the variables of an environment by which what a step started is
// known: the run and the task.
func marksOf(env []string) []string {
	var marks []string
	for _, name := range []string{"TUGLINE_RUN=", "TUGLINE_TASK="} {
		for _, pair := range slices.Backward(env) {
			if strings.HasPrefix(pair, name) {
				marks = append(marks, pair)
				break
			}
		}
	}
	return marks
}

func (l *loop) command(s *plan.Step, text *project.Text, env []string, kept *printed) shell.Command {
	ready := l.scripts.of(text)
	cmd := shell.Command{
		Program: ready.program, Args: ready.args, Script: text.Value,
		Params: s.Rest, Dir: s.Folder, Env: env,
		Stdin: l.cfg.Stdin, Stdout: l.cfg.Stdout, Stderr: l.cfg.Stderr,
		Grace: l.cfg.Grace, Kill: l.cfg.Kill, Marks: marksOf(env),
		Output: func(p []byte) {
			if kept != nil {
				kept.add(p)
			}
			l.events <- Event{Kind: StepOutput, Time: l.cfg.Now(), step: s, Text: append([]byte(nil), p...)}
		},
	}
	if s.Task.Terminal {
		cmd.Terminal, cmd.Stdin, cmd.Stdout, cmd.Stderr = l.cfg.Terminal[0], l.cfg.Terminal[0], l.cfg.Terminal[1], l.cfg.Terminal[2]
	}
	cmd.Waiting = func() { l.wait(s, "waiting for its background processes") }
	if s.Task.Echo && !l.cfg.Quiet {
		cmd.Statement = func(where shell.Stretch) {
			l.sendStatement(s, text.Value[where.Offset:where.Offset+where.Length], cmd.Stdout != nil)
		}
	}
	return cmd
}

// sendStatement tells that a statement starts. Where the programs print past
// the sink, it waits until the sink has shown it: what they print comes after.
func (l *loop) sendStatement(s *plan.Step, statement string, past bool) {
	e := Event{Kind: StepCommand, Time: l.cfg.Now(), step: s, Text: []byte(l.cfg.Secrets.Text(statement))}
	if past {
		e.handled = make(chan struct{})
	}
	l.events <- e
	if e.handled != nil {
		<-e.handled
	}
}
