package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tugline/internal/engine"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/session"
)

// watchOptions are the options of watch.
type watchOptions struct {
	runOptions
	midRound string
	lull     time.Duration
	poll     time.Duration
}

// What --mid-round may be.
var midRounds = []string{"finish", "stop"}

func (o *watchOptions) check(flags *pflag.FlagSet) error {
	switch {
	case !slices.Contains(midRounds, o.midRound):
		return &usageError{msg: fmt.Sprintf("--mid-round must be finish or stop, not %q", o.midRound)}
	case o.lull < 0:
		return &usageError{msg: fmt.Sprintf("--lull must not be negative, as %v is", o.lull)}
	case flags.Changed("poll") && o.poll < shortestPoll:
		return &usageError{msg: fmt.Sprintf("--poll must be at least %v, not %v", shortestPoll, o.poll)}
	}
	return o.runOptions.check(flags)
}

// shortestPoll is how often files may be scanned.
const shortestPoll = 10 * time.Millisecond

func (a *app) watchCommand() *cobra.Command {
	o := &watchOptions{}
	cmd := &cobra.Command{
		Use:   "watch [OPTIONS] TASK…",
		Short: "Run tasks, and run again what a change of files touches",
		Args:  cobra.ArbitraryArgs,

		ValidArgsFunction: a.complete,
		RunE: func(cmd *cobra.Command, words []string) error {
			return a.watchWords(cmd, words, o)
		},
		DisableFlagParsing: true, // tasks have options of their own
	}
	flags := cmd.Flags()
	o.add(flags)
	o.addOwn(flags)
	return cmd
}

// addOwn adds the options that only a watch has.
func (o *watchOptions) addOwn(flags *pflag.FlagSet) {
	flags.StringVar(&o.midRound, "mid-round", midRounds[0], "when files change during a round, `HOW` it goes on: finish or stop")
	flags.DurationVar(&o.lull, "lull", 50*time.Millisecond, "start a round when files have been quiet for `TIME`")
	flags.DurationVar(&o.poll, "poll", 0, "scan the files every `TIME` instead of asking the system; for network folders and containers")
}

func (a *app) watchWords(cmd *cobra.Command, words []string, o *watchOptions) error {
	o.words = words
	flags := allFlags(cmd)
	p, r, done, err := a.readRequest(cmd, words)
	if err != nil || done {
		return err
	}
	if err := o.check(flags); err != nil {
		return err
	}
	calls, err := a.watchedCalls(p, r.calls)
	if err != nil {
		return err
	}
	if o.dryRun {
		return a.preview(cmd.Context(), calls, &o.runOptions, &planOptions{})
	}
	return a.watch(cmd.Context(), calls, flags, o)
}

// watchedCalls returns the calls that are watched: those named, or the default.
func (a *app) watchedCalls(p *project.Project, calls []project.Call) ([]project.Call, error) {
	if len(calls) == 0 {
		calls = p.Default
	}
	if len(calls) == 0 {
		return nil, &usageError{msg: "tugline watch needs a task: the project has no default", hint: "see tugline list for the tasks"}
	}
	return calls, a.checkNames(calls)
}

func (a *app) watch(ctx context.Context, calls []project.Call, flags *pflag.FlagSet, o *watchOptions) error {
	r, err := a.request(calls, &o.runOptions)
	if err != nil {
		return err
	}
	events, err := a.openEvents(o.events)
	if err != nil {
		return err
	}
	defer events.close()
	ctx, quit := context.WithCancelCause(ctx)
	defer quit(nil)
	shower := &rounds{app: a, ctx: ctx, options: o, events: events, commands: make(chan session.Command), quit: quit}
	defer shower.closeKeys()
	err = a.session.Watch(ctx, r, session.Watching{
		Lull: o.lull, Poll: o.poll, Stop: o.midRound == "stop",
		Words:  session.Words{Request: append([]string{"watch"}, o.words...), Stood: a.stood, File: a.file},
		Reload: func() (session.Reloaded, error) { return a.reload(flags, o) },
		Agree:  func(p *plan.Plan) error { return shower.agree(p) },
		Shower: shower, Commands: shower.commands,
	})
	if errors.Is(err, errQuit) {
		return nil
	}
	return err
}

// errQuit is the cause of the end of a watch that the user quits with a key.
var errQuit = errors.New("quit")

// reload reads the project file again, and what the words of a watch mean in it.
func (a *app) reload(flags *pflag.FlagSet, o *watchOptions) (session.Reloaded, error) {
	before := a.base
	reloaded, err := a.readAgain(flags, o)
	if err != nil {
		a.base = before
	}
	return reloaded, err
}

func (a *app) readAgain(flags *pflag.FlagSet, o *watchOptions) (session.Reloaded, error) {
	p, err := a.loadFound()
	if err != nil {
		return session.Reloaded{}, err
	}
	words := &wordReader{flags: flags, folder: a.env.Folder, base: a.base}
	if err := words.read(o.words); err != nil {
		return session.Reloaded{}, err
	}
	if err := words.problems(); err != nil {
		return session.Reloaded{}, err
	}
	calls, err := a.watchedCalls(p, words.calls)
	if err != nil {
		return session.Reloaded{}, err
	}
	r, err := a.request(calls, &o.runOptions)
	return session.Reloaded{Project: p, Base: a.base, Request: r}, err
}

// rounds shows the rounds of a watch.
type rounds struct {
	*app
	ctx     context.Context
	options *watchOptions
	events  *eventWriter
	display *output.Display // of the round that is shown; nil: none is
	plan    *plan.Plan      // of the last round
	between *output.Display // of services between two rounds; nil: nothing is to show yet
	began   bool            // there was a round
	told    bool            // that it waits, and nothing since
	paused  bool            // which was told last

	keys     *output.Keys // nil: none are read
	keysSeen bool         // whether keys may be read has been decided
	commands chan session.Command
	quit     context.CancelCauseFunc
}

// agree asks what a plan asks. Once keys are read, there is nobody to answer.
func (r *rounds) agree(p *plan.Plan) error {
	if r.keys == nil {
		return r.ask(r.ctx, p, r.options.yes)
	}
	stdin := r.env.Stdin
	defer func() { r.env.Stdin = stdin }()
	none, err := os.Open(os.DevNull)
	if err != nil {
		return err
	}
	defer none.Close()
	r.env.Stdin = none
	return r.ask(r.ctx, p, r.options.yes)
}

// openKeys has keys read from now on, if nothing else reads the terminal.
func (r *rounds) openKeys() {
	if r.keysSeen || r.plan == nil {
		return
	}
	r.keysSeen = true
	if !r.onTerminal() || slices.ContainsFunc(r.plan.Steps, func(s *plan.Step) bool { return s.Task.Terminal }) {
		return
	}
	if r.keys = output.OpenKeys(r.env.Stdin); r.keys == nil {
		return
	}
	go func() { // ends with the watch
		for {
			select {
			case key := <-r.keys.Pressed():
				r.press(key)
			case <-r.ctx.Done():
				return
			}
		}
	}()
}

func (r *rounds) closeKeys() {
	if r.keys != nil {
		r.keys.Close()
	}
}

// press does what a key means.
func (r *rounds) press(key byte) {
	var command session.Command
	switch key {
	case 'r':
		command = session.RunAgain
	case 'a':
		command = session.RunAll
	case 'p':
		command = session.Pause
	case 'c':
		r.print(output.ClearScreen)
		return
	case 'q':
		r.quit(errQuit)
		return
	default:
		return
	}
	select {
	case r.commands <- command: // when the round has ended
	case <-r.ctx.Done():
	}
}

// Round prepares to show a round.
func (r *rounds) Round(run *session.Run, changed []string) session.How {
	r.display, r.between, r.plan = nil, nil, run.Plan
	r.events.name(run.Name)
	first := !r.began
	r.began = true
	mode := r.mode(run.Plan, &r.options.runOptions)
	return session.How{After: r.options.after, Quiet: r.quiet, Streams: r.streams(mode), Aside: r.Service, Sink: func(e engine.Event) error {
		if r.display == nil {
			if err := r.events.changed(changed); err != nil {
				return err
			}
			if len(changed) > 0 {
				r.tell(output.Changed(changed, r.style(r.env.Stderr)))
			}
			r.display = r.app.display(run, mode, r.session.Jobs(session.Request{Jobs: r.options.jobs}), !first)
		}
		return errors.Join(r.events.event(e), show(r.display, e))
	}}
}

// Service shows what a service does between two rounds.
func (r *rounds) Service(e engine.Event) {
	r.events.event(e) // a failure is seen with the next round
	if r.between == nil {
		mode := output.Lines
		r.between = output.NewDisplay(engine.StepsOf(r.plan), output.DisplayConfig{Out: r.env.Stdout, Err: r.env.Stderr, Mode: mode, Quiet: r.quiet, Style: r.displayStyle(mode)})
	}
	if e.Kind == engine.ServiceExited {
		e.Kind = engine.StepFinished
	}
	r.between.Event(e)
}

// Ended shows what became of a round.
func (r *rounds) Ended(summary engine.Summary, _ error) {
	r.told = false
	if r.display != nil {
		r.display.Summary(summary, r.style(r.env.Stderr))
	}
	if err := r.junit("latest", r.options.junit); err != nil {
		r.tell("tugline: " + err.Error() + "\n") // the watch goes on
	}
}

// Waiting tells that the next change is waited for.
func (r *rounds) Waiting(paused bool) {
	r.openKeys()
	if r.told && r.paused == paused || r.quiet {
		return
	}
	r.told, r.paused = true, paused
	r.tell(output.Waiting(paused, r.keys != nil, r.style(r.env.Stderr)))
}

// Problem shows why there is no round.
func (r *rounds) Problem(err error) {
	r.told = false
	r.finish(r.ctx, err)
}

// Note shows what there is to say besides.
func (r *rounds) Note(text string) {
	r.told = false
	r.say(text, "")
}
