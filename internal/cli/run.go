package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tugline/internal/engine"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/session"
)

// grace is the time a program has to end after the polite signal.
const grace = 5 * time.Second

// guardCommand is the hidden command with which Tugline starts its own guard.
const guardCommand = "guard-processes"

// runOptions are the options of a run.
type runOptions struct {
	jobs   int
	output string
	set    []string
	files  []string // --env-file
	dryRun bool
	after  string // --after-failure
	yes    bool
	events string // --events
	junit  string // --junit

	words   []string // of the request
	resumes *string  // the run that is gone on with
	cacheOptions
}

func (o *runOptions) add(flags *pflag.FlagSet) {
	flags.SortFlags = false
	flags.IntVarP(&o.jobs, "jobs", "j", 0, "run at most `N` tasks at the same time (default: number of processors)")
	flags.StringVar(&o.output, "output", "", "show task output in this `MODE`: auto, lines, blocks or direct")
	flags.StringVar(&o.after, "after-failure", "", "what happens to other tasks after a failure, `HOW`: drain, abort or continue")
	o.addVariables(flags)
	o.cacheOptions.add(flags)
	o.addYes(flags)
	flags.StringVar(&o.events, "events", "", "write what happens to `FILE`, one JSON object a line")
	flags.StringVar(&o.junit, "junit", "", "write what became of the tasks to `FILE` as JUnit XML")
	flags.BoolVarP(&o.dryRun, "dry-run", "n", false, "show what would run, as tugline plan does, without running it")
}

// addYes adds the option that answers questions.
func (o *runOptions) addYes(flags *pflag.FlagSet) {
	flags.BoolVar(&o.yes, "yes", false, "answer yes to all questions of tasks")
}

// addVariables adds the options that set variables.
func (o *runOptions) addVariables(flags *pflag.FlagSet) {
	flags.StringArrayVar(&o.set, "set", nil, "set a variable, `NAME=VALUE`, overriding the project file; may be repeated")
	flags.StringArrayVar(&o.files, "env-file", nil, "read variables from `FILE`, overriding the project's env files; may be repeated")
}

func (o *runOptions) check(flags *pflag.FlagSet) error {
	if flags.Changed("jobs") && o.jobs < 1 {
		return &usageError{msg: fmt.Sprintf("--jobs must be at least 1, not %d", o.jobs)}
	}
	if err := o.checkVariables(); err != nil {
		return err
	}
	if o.after != "" && !slices.Contains(project.AfterFailure, o.after) {
		return &usageError{msg: fmt.Sprintf("--after-failure must be %s, not %q", strings.Join(project.AfterFailure, ", "), o.after)}
	}
	if o.output != "" && !slices.Contains(project.Outputs, o.output) {
		return &usageError{msg: fmt.Sprintf("--output must be auto, lines, blocks or direct, not %q", o.output)}
	}
	return nil
}

func (o *runOptions) checkVariables() error {
	for _, pair := range o.set {
		name, _, ok := strings.Cut(pair, "=")
		if !ok || !project.ValidVariable(name) {
			return &usageError{msg: fmt.Sprintf("--set takes NAME=VALUE, not %q", pair)}
		}
	}
	return nil
}

func (a *app) runCommand() *cobra.Command {
	options := &runOptions{}
	cmd := &cobra.Command{
		Use:   "run [OPTIONS] TASK…",
		Short: "Run tasks in the given order, each with its dependencies",
		Args:  cobra.ArbitraryArgs,

		ValidArgsFunction: a.complete,
		RunE: func(cmd *cobra.Command, words []string) error {
			return a.runWords(cmd, words, options)
		},
		DisableFlagParsing: true, // tasks have options of their own
	}
	options.add(cmd.Flags())
	return cmd
}

// run runs calls, or the default task if there are none; without that, it
// lists the tasks.
func (a *app) run(ctx context.Context, p *project.Project, calls []project.Call, options *runOptions) error {
	if len(calls) == 0 {
		calls = p.Default
	}
	if len(calls) == 0 {
		return a.list(p, output.Listed(p, a.base, false, false))
	}
	return a.runCalls(ctx, calls, options)
}

// runCalls plans and runs calls.
func (a *app) runCalls(ctx context.Context, calls []project.Call, options *runOptions) error {
	if options.dryRun {
		return a.preview(ctx, calls, options, &planOptions{})
	}
	r, err := a.request(calls, options)
	if err != nil {
		return err
	}
	prepared, err := a.session.Prepare(ctx, r)
	if err != nil {
		return err
	}
	if err := a.ask(ctx, prepared.Plan, options.yes); err != nil {
		return err
	}
	events, err := a.openEvents(options.events)
	if err != nil {
		return err
	}
	defer events.close()
	run := a.session.Begin(prepared, session.Words{Request: options.words, Stood: a.stood, File: a.file})
	events.name(run.Name)
	mode := a.mode(run.Plan, options)
	display := a.display(run, mode, a.session.Jobs(r), false)
	summary, err := run.Do(ctx, session.How{After: options.after, Quiet: a.quiet, Streams: a.streams(mode), Sink: func(e engine.Event) error { return errors.Join(events.event(e), show(display, e)) }})
	display.Summary(summary, a.style(a.env.Stderr))
	if run.Recorded {
		err = errors.Join(err, a.junit(run.Name, options.junit))
	}
	if run.Recorded && (len(summary.Failures()) > 0 || summary.Count(engine.Stopped) > 0) && working(run.Plan) > 1 {
		a.tell("To continue: tugline resume\n")
	}
	return failureOf(summary, err)
}

// show shows an event.
func show(display *output.Display, e engine.Event) error {
	display.Event(e)
	if err := display.Err(); err != nil {
		return fmt.Errorf("showing the output: %w", err)
	}
	return nil
}

// streams returns the files for the programs of a run that is shown in a mode.
func (a *app) streams(mode output.Mode) engine.Streams {
	s := engine.Streams{Terminal: [3]*os.File{a.env.Stdin, a.env.Stdout, a.env.Stderr}}
	if mode != output.Direct {
		return s
	}
	s.Stdout, s.Stderr = a.env.Stdout, a.env.Stderr
	s.Record = !output.IsTerminal(a.env.Stdout) && !output.IsTerminal(a.env.Stderr)
	if !output.IsTerminal(a.env.Stdin) {
		s.Stdin = a.env.Stdin // what reads a terminal must own it
	}
	return s
}

// display returns what shows a run.
func (a *app) display(run *session.Run, mode output.Mode, jobs int, isRound bool) *output.Display {
	cfg := output.DisplayConfig{
		Out: a.env.Stdout, Err: a.env.Stderr, Mode: mode, Quiet: a.quiet, Verbose: a.verbose, Style: a.displayStyle(mode), Terminal: a.env.Stdin, Usual: run.Usual, Jobs: jobs, Round: isRound, FromTop: a.base != nil && a.base.Parent != nil,
	}
	if a.onTerminal() {
		cfg.Size = func() (int, int) { return output.Size(a.env.Stdout) }
	}
	return output.NewDisplay(engine.StepsOf(run.Plan), cfg)
}

// failureOf returns the error that stands for what a run came to.
func failureOf(summary engine.Summary, err error) error {
	if err != nil {
		return err
	}
	failures := summary.Failures()
	switch {
	case len(failures) == 0:
		return nil
	case slices.ContainsFunc(failures, func(r engine.Result) bool { return r.Failure.Internal }):
		return errInternal
	}
	return errFailed
}

// onTerminal reports whether a run is watched on a terminal that can be drawn on.
func (a *app) onTerminal() bool {
	return output.IsTerminal(a.env.Stdout) && a.variable("TERM") != "dumb" && a.variable("CI") == ""
}

// mode returns how the output of a run is shown.
func (a *app) mode(pl *plan.Plan, options *runOptions) output.Mode {
	if set := cmp.Or(options.output, pl.Project.Output, "auto"); set != "auto" {
		return output.Mode(set)
	}
	switch {
	case slices.ContainsFunc(pl.Steps, (*plan.Step).Stays):
		if a.onTerminal() {
			return output.Lines
		}
	case working(pl) == 1:
		return output.Direct
	case a.onTerminal():
		return output.Lines
	}
	return output.Blocks
}

// working returns how many steps of a plan have commands, as far as that is known.
func working(pl *plan.Plan) int {
	n := 0
	for _, s := range pl.Steps {
		switch {
		case s.Loop != nil:
			n += 2 // it may be any number
		case s.Works():
			n++
		}
	}
	return n
}

// displayStyle returns how to dress the display of a run, which in direct
// mode goes to stderr.
func (a *app) displayStyle(mode output.Mode) output.Style {
	if mode == output.Direct {
		return a.style(a.env.Stderr)
	}
	return a.style(a.env.Stdout)
}
