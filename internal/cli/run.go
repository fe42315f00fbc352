package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
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

	words   []string // of the request
	resumes *string  // the run that is gone on with
	memoryOptions
}

func (o *runOptions) add(flags *pflag.FlagSet) {
	flags.SortFlags = false
	flags.IntVarP(&o.jobs, "jobs", "j", 0, "run at most `N` tasks at the same time (default: number of processors)")
	flags.StringVar(&o.output, "output", "", "show task output in this `MODE`: auto, lines, blocks or direct")
	flags.StringVar(&o.after, "after-failure", "", "what happens to other tasks after a failure, `HOW`: drain, abort or continue")
	o.addVariables(flags)
	o.memoryOptions.add(flags)
	flags.BoolVar(&o.yes, "yes", false, "answer yes to all questions of tasks")
	flags.BoolVarP(&o.dryRun, "dry-run", "n", false, "show what would run, as tugline plan does, without running it")
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

// jobsFor returns how many steps of p run at once.
func (o *runOptions) jobsFor(p *project.Project) int {
	return cmp.Or(o.jobs, p.Jobs, runtime.NumCPU())
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
	return a.runCalls(ctx, p, calls, options)
}

// runCalls plans and runs calls.
func (a *app) runCalls(ctx context.Context, p *project.Project, calls []project.Call, options *runOptions) error {
	jobs := options.jobsFor(p)
	if options.dryRun {
		return a.foresee(ctx, p, calls, options, &planOptions{})
	}
	pl, scripts, err := a.ready(ctx, p, calls, options)
	if err != nil {
		return err
	}
	memory, err := a.memory(p, &options.memoryOptions, calls)
	if err != nil {
		return err
	}
	if err := a.goOn(pl, memory, options); err != nil {
		return err
	}
	cfg := engine.Config{Jobs: jobs, After: p.After, AfterAll: options.after, Grace: grace, Quiet: a.quiet, Kill: a.env.Kill, Secrets: a.secrets, List: a.listed}
	var recording *engine.Recording
	if a.remember(memory) {
		cfg.Cache = memory
		defer a.settleMemory(p, memory)
		recording = a.record(p, memory, options)
		usual := sync.OnceValue(memory.Ledger.Usual)
		cfg.Times = func(s *plan.Step) time.Duration { return usual()[s.Name] }
	}
	cfg.Own = [3]*os.File{a.env.Stdin, a.env.Stdout, a.env.Stderr}
	mode := a.mode(pl, options)
	if mode == output.Direct {
		cfg.Stdout, cfg.Stderr = a.env.Stdout, a.env.Stderr
		cfg.Tee = recording != nil && !output.IsTerminal(a.env.Stdout) && !output.IsTerminal(a.env.Stderr)
		if !output.IsTerminal(a.env.Stdin) {
			cfg.Stdin = a.env.Stdin // what reads a terminal must own it
		}
	}
	shown := output.DisplayConfig{
		Out: a.env.Stdout, Err: a.env.Stderr, Mode: mode, Quiet: a.quiet, Verbose: a.verbose, Style: a.displayStyle(mode), Own: a.env.Stdin, Usual: cfg.Times, Jobs: jobs,
	}
	if a.onTerminal() {
		shown.Size = func() (int, int) { return output.Size(a.env.Stdout) }
	}
	display := output.NewDisplay(pl, shown)
	summary, err := a.engineRun(ctx, pl, scripts, cfg, display, recording)
	a.endRecord(p, memory, recording, summary, err)
	display.Summary(summary, a.style(a.env.Stderr))
	if recording != nil && (len(summary.Failures()) > 0 || err != nil) && working(pl) > 1 {
		a.tell("To continue: tugline resume\n")
	}
	return failureOf(summary, err)
}

// ready plans calls and sees to all that must be well before anything starts.
func (a *app) ready(ctx context.Context, p *project.Project, calls []project.Call, options *runOptions) (*plan.Plan, *engine.Scripts, error) {
	req, err := a.request(ctx, p, options)
	if err != nil {
		return nil, nil, err
	}
	req.Calls = calls
	pl, err := plan.New(p, req)
	if err != nil {
		return nil, nil, err
	}
	scripts, err := engine.Prepare(pl)
	if err != nil {
		return nil, nil, err
	}
	if _, err := engine.CheckRequirements(ctx, pl, grace); err != nil {
		return nil, nil, err
	}
	return pl, scripts, a.ask(ctx, pl, options.yes)
}

// goOn tells memory what was done in the run that is gone on with, if any.
func (a *app) goOn(pl *plan.Plan, memory *cache.Cache, options *runOptions) error {
	if options.resumes == nil {
		return nil
	}
	run, err := a.findRun(memory.Ledger, *options.resumes)
	if err == nil {
		done := engine.DoneIn(pl, run)
		memory.Resumed, memory.Expanded = done.Finished, done.Review
	}
	return err
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

// newRunName returns the name of a new run: its time to the millisecond, to be
// read and sorted, and two digits by chance, since two may start at once.
func newRunName() string {
	word := make([]byte, 1)
	rand.Read(word) // never fails
	now := time.Now().UTC()
	return fmt.Sprintf("%s-%03d%x", now.Format("20060102-150405"), now.Nanosecond()/1e6, word)
}

// onTerminal reports whether a run is watched on a terminal that can be drawn on.
func (a *app) onTerminal() bool {
	return output.IsTerminal(a.env.Stdout) && a.variable("TERM") != "dumb" && a.variable("CI") == ""
}

// engineRun runs the plan, and stops it when its output cannot be written.
func (a *app) engineRun(ctx context.Context, pl *plan.Plan, scripts *engine.Scripts, cfg engine.Config, display *output.Display, recording *engine.Recording) (engine.Summary, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if recording != nil {
		cfg.Log, cfg.Idle = recording.Log, recording.Flush
	}
	cfg.Sink = func(e engine.Event) {
		if recording != nil {
			recording.Event(e)
		}
		display.Event(e)
		if err := display.Err(); err != nil {
			cancel(fmt.Errorf("showing the output: %w", err))
		}
	}
	return engine.Run(ctx, pl, scripts, cfg)
}

// mode returns how the output of a run is shown.
func (a *app) mode(pl *plan.Plan, options *runOptions) output.Mode {
	if set := cmp.Or(options.output, pl.Project.Output, "auto"); set != "auto" {
		return output.Mode(set)
	}
	switch {
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
