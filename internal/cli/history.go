package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tugline/internal/background"
	"tugline/internal/history"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/secret"
)

// findRun returns a run by its name, or the latest one.
func (a *app) findRun(ledger *history.Ledger, name string) (history.Run, error) {
	if name != "" && name != "latest" {
		run, err := ledger.ReadRun(name)
		if errors.Is(err, history.ErrNoRun) {
			return run, &usageError{msg: fmt.Sprintf("there is no run %q", name), hint: "tugline runs lists the recorded runs"}
		}
		return run, err
	}
	for _, id := range ledger.Runs() {
		run, err := ledger.ReadRun(id)
		if err == nil {
			return run, nil
		}
		if !errors.Is(err, history.ErrNoRun) {
			return run, err
		}
	}
	return history.Run{}, &usageError{msg: "no run yet", hint: "start one with tugline TASK"}
}

// runsOptions are the options of runs.
type runsOptions struct {
	failed, times, json, csv bool
	task, since              string
}

func (a *app) runsCommand() *cobra.Command {
	o := &runsOptions{}
	cmd := &cobra.Command{
		Use:   "runs [RUN]",
		Short: "Show past runs, or the tasks of one run",
		Args:  cobra.MaximumNArgs(1),

		ValidArgsFunction: a.completeRun,
		RunE: func(_ *cobra.Command, args []string) error {
			if _, err := a.load(); err != nil {
				return err
			}
			if o.csv && (o.json || o.times) {
				return &usageError{msg: "--csv goes with neither --json nor --times"}
			}
			ledger := a.session.Ledger
			if len(args) == 1 {
				run, err := a.findRun(ledger, args[0])
				switch {
				case err != nil:
					return err
				case o.json:
					return output.JSON(a.env.Stdout, output.RunJSON(run, true))
				case o.csv:
					return output.RunCSV(a.env.Stdout, run)
				}
				return output.WriteRun(a.env.Stdout, run, ledger.Usual(), a.style(a.env.Stdout))
			}
			return a.runs(ledger, o)
		},
	}
	flags := cmd.Flags()
	flags.SortFlags = false
	flags.BoolVar(&o.failed, "failed", false, "only failed and stopped runs")
	flags.StringVar(&o.task, "task", "", "only runs that included `TASK`")
	flags.StringVar(&o.since, "since", "", "only runs since `WHEN`: a duration such as 90m, 12h or 3d, or a date such as 2026-11-23")
	flags.BoolVar(&o.times, "times", false, "show durations and the share of unchanged runs for each task")
	flags.BoolVar(&o.json, "json", false, "as JSON")
	flags.BoolVar(&o.csv, "csv", false, "as CSV, with a heading")
	return cmd
}

func (a *app) runs(ledger *history.Ledger, o *runsOptions) error {
	since, err := sinceTime(o.since, time.Now())
	if err != nil {
		return err
	}
	var task string
	if o.task != "" {
		t, err := a.task(o.task)
		if err != nil {
			return err
		}
		task = t.Name
	}
	var runs []history.Run
	for _, id := range ledger.Runs() {
		run, err := ledger.ReadRun(id)
		switch {
		case err != nil && !errors.Is(err, history.ErrNoRun):
			return err
		case err != nil, run.Started.Before(since), o.failed && run.State != history.RunFailed && run.State != history.RunStopped:
		case task != "" && !slices.ContainsFunc(run.Steps, func(s history.RunStep) bool { return s.Task == task }):
		default:
			runs = append(runs, run)
		}
	}
	st := a.style(a.env.Stdout)
	switch {
	case o.times && o.json:
		return output.TimesJSON(a.env.Stdout, history.TimesOf(runs))
	case o.times:
		return output.WriteTimes(a.env.Stdout, history.TimesOf(runs), st)
	case o.json:
		return output.RunsJSON(a.env.Stdout, runs)
	case o.csv:
		return output.RunsCSV(a.env.Stdout, runs)
	}
	return output.WriteRuns(a.env.Stdout, runs, st)
}

// sinceTime reads a time ago, or a date.
func sinceTime(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if d, err := time.ParseDuration(days + "h"); err == nil {
			return now.Add(-24 * d), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil {
		return now.Add(-d), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, &usageError{msg: fmt.Sprintf("--since takes a time ago, such as 90m, 12h or 3d, or a date, such as 2026-11-23, not %q", text)}
}

func (a *app) logCommand() *cobra.Command {
	var name string
	var follow bool
	run := &runOptions{}
	cmd := a.onCalls("log TASK", run, func(ctx context.Context, p *project.Project, calls []project.Call) error {
		if len(calls) != 1 {
			return &usageError{msg: "tugline log takes one task", hint: "see tugline runs latest for its tasks"}
		}
		return a.log(ctx, p, calls[0], name, follow)
	})
	cmd.Short = "Print a task's output from its latest run"
	flags := cmd.Flags()
	flags.SortFlags = false
	flags.StringVar(&name, "run", "", "read the output of this `RUN`")
	flags.BoolVarP(&follow, "follow", "f", false, "follow the output while the task runs")
	return cmd
}

// log prints what a call printed: of a task with arguments or instances, all
// its calls are meant that have those of call.
func (a *app) log(ctx context.Context, p *project.Project, call project.Call, name string, follow bool) error {
	ledger := a.session.Ledger
	want := plan.CallName(a.base.Task(call.Name), call)
	if name == "" {
		if running, err := a.chosen(a.session.Background.List(ctx), []project.Call{call}); err == nil {
			return a.backgroundLogs(ctx, running, follow)
		}
	}
	var runs []string
	if name != "" {
		run, err := a.findRun(ledger, name)
		if err != nil {
			return err
		}
		runs = []string{run.ID}
	} else {
		runs = ledger.Runs()
	}
	for _, id := range runs {
		run, err := ledger.ReadRun(id)
		if err != nil && !errors.Is(err, history.ErrNoRun) {
			return err
		}
		found := slices.DeleteFunc(slices.Clone(run.Steps), func(s history.RunStep) bool {
			return s.Name != want && (s.Task != want || len(call.Args)+len(call.Rest) > 0) || s.Attempts == 0
		})
		if len(found) > 0 {
			return a.printLogs(ctx, ledger, run, found, follow)
		}
	}
	if name != "" {
		return &usageError{msg: fmt.Sprintf("%s did not run in run %s", want, runs[0])}
	}
	return &usageError{msg: fmt.Sprintf("no recorded run includes %s", want)}
}

func (a *app) printLogs(ctx context.Context, ledger *history.Ledger, run history.Run, steps []history.RunStep, follow bool) error {
	for i, s := range steps {
		if len(steps) > 1 {
			gap := ""
			if i > 0 {
				gap = "\n"
			}
			if err := a.print(gap + output.StepHeading(s, a.style(a.env.Stdout))); err != nil {
				return err
			}
		}
		path := ""
		if s.Log != nil {
			path = filepath.Join(ledger.RunFolder(run.ID), filepath.FromSlash(*s.Log))
		}
		if path == "" && !(follow && s.State == history.RunRunning) {
			a.tell(fmt.Sprintf("%s: no output recorded in run %s: it printed nothing, or directly to a terminal\n", s.Name, run.ID))
			continue
		}
		if err := a.copyLog(ctx, ledger, run, s, path, follow); err != nil {
			return err
		}
	}
	return nil
}

// backgroundLogs prints the logs of services that run in the background.
func (a *app) backgroundLogs(ctx context.Context, running []background.Running, follow bool) error {
	for _, r := range running {
		goesOn := func() bool {
			_, runs := a.session.Background.Find(ctx, r.ID)
			return follow && len(running) == 1 && runs
		}
		if err := a.follow(ctx, func() string { return r.LogFile }, goesOn); err != nil {
			return err
		}
	}
	return nil
}

// follow prints a file, once find finds it, and what is added to it while goesOn says
// so.
func (a *app) follow(ctx context.Context, find func() string, goesOn func() bool) error {
	var file *os.File
	for {
		last := !goesOn()
		if path := find(); file == nil && path != "" {
			var err error
			if file, err = os.Open(path); err != nil {
				return fmt.Errorf("reading a log: %w", err)
			}
			defer file.Close()
		}
		if file != nil {
			if _, err := io.Copy(a.env.Stdout, file); err != nil {
				return fmt.Errorf("printing a log: %w", err)
			}
		}
		if last {
			return nil
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// copyLog prints a log, and what is added to it while the step runs.
func (a *app) copyLog(ctx context.Context, ledger *history.Ledger, run history.Run, s history.RunStep, path string, follow bool) error {
	find := func() string {
		if path == "" {
			path = ledger.FindLog(run.ID, s.Name)
		}
		return path
	}
	return a.follow(ctx, find, func() bool {
		return follow && (ledger.IsRunning(run.ID, s.Name) || path != "" && history.IsOpen(path))
	})
}

func (a *app) resumeCommand() *cobra.Command {
	options := &runOptions{}
	cmd := &cobra.Command{
		Use:   "resume [RUN]",
		Short: "Continue the latest run if it failed or was stopped, without repeating finished work",
		Args:  cobra.MaximumNArgs(1),

		ValidArgsFunction: a.completeRun,
		RunE: func(cmd *cobra.Command, args []string) error {
			name := "latest"
			if len(args) == 1 {
				name = args[0]
			}
			return a.resume(cmd, name, options)
		},
	}
	options.add(cmd.Flags())
	watch := &watchOptions{} // of a round
	watch.addOwn(cmd.Flags())
	for _, name := range []string{"mid-round", "lull", "poll"} {
		cmd.Flags().Lookup(name).Hidden = true
	}
	return cmd
}

// resume makes the request of a run again. Options given now are stronger than
// those given then.
func (a *app) resume(cmd *cobra.Command, name string, options *runOptions) error {
	p, err := a.load()
	if err != nil {
		return err
	}
	run, err := a.findRun(a.session.Ledger, name)
	switch {
	case err != nil:
		return err
	case run.State == history.RunRunning:
		return &usageError{msg: fmt.Sprintf("run %s is still running", run.ID), hint: "tugline runs lists past runs"}
	case run.State == history.RunRan:
		return &usageError{msg: fmt.Sprintf("nothing to resume: run %s succeeded", run.ID), hint: "tugline runs --failed lists failed and stopped runs"}
	case slices.ContainsFunc(run.Request, func(w string) bool { return strings.Contains(w, secret.Shown) }):
		return &usageError{msg: fmt.Sprintf("the request of run %s held a secret, which is not kept: %s", run.ID, strings.Join(run.Request, " ")), hint: "repeat it in full"}
	}
	if len(run.Request) > 1 && run.Request[0] == "service" && run.Request[1] == "start" {
		return &usageError{msg: fmt.Sprintf("run %s started services in the background", run.ID), hint: "to try again: tugline " + strings.Join(run.Request, " ")}
	}
	if run.IsRound() {
		run.Request = run.Request[1:] // one round of it is made again
	}
	given := givenOptions(cmd.Flags())
	a.env.Folder, a.folder, a.file = filepath.Join(p.Folder, filepath.FromSlash(run.Folder)), "", filepath.FromSlash(run.File)
	if filepath.IsAbs(filepath.FromSlash(run.Folder)) {
		a.env.Folder = filepath.FromSlash(run.Folder)
	}
	options.resumes = &run.ID
	return a.runRequest(cmd, run.Request, options, func() { given.set(cmd.Flags()) })
}

// optionValues are the options of a command line, by name.
type optionValues map[string][]string

func givenOptions(flags *pflag.FlagSet) optionValues {
	given := optionValues{}
	flags.Visit(func(f *pflag.Flag) {
		if list, ok := f.Value.(pflag.SliceValue); ok {
			given[f.Name] = list.GetSlice()
			return
		}
		given[f.Name] = []string{f.Value.String()}
	})
	return given
}

// set makes options stronger than those that were set since.
func (given optionValues) set(flags *pflag.FlagSet) {
	for name, values := range given {
		for _, value := range values {
			flags.Set(name, value) // good: it was set before
		}
	}
}

// completeRun gives a shell the names of runs.
func (a *app) completeRun(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	found := []string{"latest"}
	if _, err := a.load(); err == nil {
		found = append(found, a.session.Ledger.Runs()...)
	}
	return found, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}
