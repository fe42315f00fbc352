package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"tugline/internal/background"
	"tugline/internal/engine"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/session"
	"tugline/internal/shell"
)

// superviseCommand is the hidden command with which Tugline starts the supervisor of
// a service in the background.
const superviseCommand = "supervise-service"

func (a *app) supervisorCommand() *cobra.Command {
	return &cobra.Command{
		Use:    superviseCommand,
		Short:  "Keep a service running in the background",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			mark := "TUGLINE_SESSION=" + a.runName
			var guard []string
			if a.env.Program != "" {
				guard = []string{a.env.Program, guardCommand, mark}
			}
			s := shell.NewSession(guard, mark)
			defer s.End(grace)
			return background.Supervise(cmd.Context(), a.env.Stdin, s)
		},
	}
}

func (a *app) serviceCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "service",
		Short: "Start, stop and list services in the background",
		Long: `Services in the background run on when Tugline has ended, across terminals. Runs
and watches that need one use it, if it is still what they need.`,
		Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			return &usageError{msg: "tugline service needs one of start, stop, restart, list"}
		},
	}
	cmd.AddCommand(a.serviceStartCommand(), a.serviceStopCommand(), a.serviceRestartCommand(), a.serviceListCommand())
	for _, sub := range cmd.Commands() {
		sub.DisableFlagsInUseLine = true
	}
	return cmd
}

func (a *app) serviceStartCommand() *cobra.Command {
	run := &runOptions{}
	cmd := a.onCalls("start SERVICE…", run, func(ctx context.Context, _ *project.Project, calls []project.Call) error {
		if len(calls) == 0 {
			return &usageError{msg: "tugline service start needs a service", hint: "see tugline list for the tasks"}
		}
		return a.startServices(ctx, calls, run)
	})
	cmd.Short = "Start services in the background, with what they need, and wait until they are ready"
	run.addVariables(cmd.Flags())
	run.addYes(cmd.Flags())
	return cmd
}

// startServices runs what services need, and starts them in the background.
func (a *app) startServices(ctx context.Context, calls []project.Call, options *runOptions) error {
	r, err := a.request(calls, options)
	if err != nil {
		return err
	}
	prepared, err := a.session.Prepare(ctx, r)
	if err != nil {
		return err
	}
	asked := prepared.Plan.Asked()
	if len(asked) == 0 {
		return &usageError{msg: fmt.Sprintf("%s is no service", calls[0].Text), hint: `a service has "stays" or "serve"`}
	}
	for s := range asked {
		// One that was started for others is asked for now.
		if err := a.session.Background.Ask(ctx, s.ID()); err != nil {
			return err
		}
	}
	if err := a.ask(ctx, prepared.Plan, options.yes); err != nil {
		return err
	}
	words := []string{"service", "start"}
	for _, call := range calls {
		words = append(words, call.Text)
	}
	run := a.session.Begin(prepared, session.Words{Request: words, Stood: a.stood, File: a.file})
	mode := a.mode(run.Plan, options)
	display := a.display(run, mode, a.session.Jobs(r), false)
	summary, err := run.Do(ctx, session.How{Quiet: a.quiet, Detach: true, Streams: a.streams(mode), Sink: func(e engine.Event) error { return show(display, e) }})
	if len(summary.Failures()) > 0 || err != nil {
		display.Summary(summary, a.style(a.env.Stderr))
	}
	display.Close()
	return failureOf(summary, err)
}

func (a *app) serviceStopCommand() *cobra.Command {
	all := false
	run := &runOptions{}
	cmd := a.onCalls("stop SERVICE…", run, func(ctx context.Context, _ *project.Project, calls []project.Call) error {
		running := a.session.Background.List(ctx)
		which := running
		if !all {
			if len(calls) == 0 {
				return &usageError{msg: "tugline service stop needs a service, or --all", hint: "tugline service list shows those that run"}
			}
			var err error
			if which, err = a.chosen(running, calls); err != nil {
				return err
			}
		}
		return a.stopServices(ctx, running, which)
	})
	cmd.Short = "Stop services, and those that only they used"
	cmd.Flags().BoolVar(&all, "all", false, "stop all services of the project")
	return cmd
}

// chosen returns the services that run which calls mean: of a call without arguments,
// all of its task.
func (a *app) chosen(running []background.Running, calls []project.Call) ([]background.Running, error) {
	var which []background.Running
	for _, call := range calls {
		want := plan.CallName(a.base.Task(call.Name), call)
		found := false
		for _, r := range running {
			if r.Name == want || r.Task == want && len(call.Args)+len(call.Rest) == 0 {
				which, found = append(which, r), true
			}
		}
		if !found {
			return nil, &usageError{msg: fmt.Sprintf("%s does not run in the background", want), hint: "tugline service list shows the services that do"}
		}
	}
	return which, nil
}

// stopServices stops services, the latest first, and then those that nobody asked for
// and nothing uses any more.
func (a *app) stopServices(ctx context.Context, running, which []background.Running) error {
	for len(which) > 0 {
		for _, r := range slices.Backward(which) {
			if err := a.session.Background.Stop(ctx, &r.Entry); err != nil {
				return err
			}
			running = slices.DeleteFunc(running, func(other background.Running) bool { return other.ID == r.ID })
			a.tell(fmt.Sprintf("stopped  %s\n", r.Name))
		}
		stopped := which
		which = nil
		for _, r := range running {
			uses := func(other background.Running) bool { return slices.Contains(other.Uses, r.ID) }
			if !r.Asked && slices.ContainsFunc(stopped, uses) && !slices.ContainsFunc(running, uses) {
				which = append(which, r)
			}
		}
	}
	return nil
}

func (a *app) serviceRestartCommand() *cobra.Command {
	run := &runOptions{}
	cmd := a.onCalls("restart SERVICE…", run, func(ctx context.Context, _ *project.Project, calls []project.Call) error {
		if len(calls) == 0 {
			return &usageError{msg: "tugline service restart needs a service", hint: "tugline service list shows those that run"}
		}
		which, err := a.chosen(a.session.Background.List(ctx), calls)
		if err != nil {
			return err
		}
		for _, r := range slices.Backward(which) {
			if err := a.session.Background.Stop(ctx, &r.Entry); err != nil {
				return err
			}
			a.tell(fmt.Sprintf("stopped  %s\n", r.Name))
		}
		return a.startServices(ctx, calls, run)
	})
	cmd.Short = "Stop services, and start them again as they are now"
	run.addVariables(cmd.Flags())
	run.addYes(cmd.Flags())
	return cmd
}

func (a *app) serviceListCommand() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:   "list",
		Short: "Show the services that run in the background",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if _, err := a.load(); err != nil {
				return err
			}
			running := a.session.Background.List(cmd.Context())
			if asJSON {
				return output.ServicesJSON(a.env.Stdout, running)
			}
			return output.Services(a.env.Stdout, running, a.shown, a.style(a.env.Stdout))
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return cmd
}
