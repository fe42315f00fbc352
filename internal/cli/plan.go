package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"tugline/internal/cache"
	"tugline/internal/output"
	"tugline/internal/project"
)

// planOptions are the options of plan.
type planOptions struct {
	check     bool
	noCompute bool
	json      bool
}

func (a *app) planCommand() *cobra.Command {
	run, options := &runOptions{}, &planOptions{}
	cmd := a.onCalls("plan [OPTIONS] TASK…", run, func(ctx context.Context, p *project.Project, calls []project.Call) error {
		if len(calls) == 0 {
			calls = p.Default
		}
		if len(calls) == 0 {
			return &usageError{msg: "tugline plan needs a task: the project has no default", hint: "see tugline list for the tasks"}
		}
		return a.preview(ctx, calls, run, options)
	})
	cmd.Short = "Show what would run, in order, and why, without running it"
	flags := cmd.Flags()
	flags.SortFlags = false
	flags.BoolVar(&options.check, "check", false, "exit with code 1 if anything would run or be restored")
	flags.BoolVar(&options.noCompute, "no-compute", false, "do not compute variables; tasks that depend on one are shown as \"maybe\"")
	flags.BoolVar(&options.json, "json", false, "as JSON")
	run.addVariables(flags)
	run.cacheOptions.add(flags)
	return cmd
}

// preview shows what a run of calls would do.
func (a *app) preview(ctx context.Context, calls []project.Call, run *runOptions, options *planOptions) error {
	r, err := a.request(calls, run)
	if err != nil {
		return err
	}
	r.NoCompute = options.noCompute
	preview, err := a.session.Preview(ctx, r)
	if err != nil {
		return err
	}
	if options.json {
		err = output.PlanJSON(a.env.Stdout, preview)
	} else {
		err = output.Plan(a.env.Stdout, preview, a.verbose, a.style(a.env.Stdout))
	}
	if err != nil || !options.check {
		return err
	}
	if len(preview.Removes) > 0 {
		return errFailed
	}
	for _, s := range preview.Steps {
		if s.Action == cache.ToRun || s.Action == cache.Maybe || s.Action == cache.ToRestore || s.Action == cache.ToStart {
			return errFailed
		}
	}
	return nil
}

func (a *app) whyCommand() *cobra.Command {
	run := &runOptions{}
	var asJSON bool
	cmd := a.onCalls("why TASK", run, func(ctx context.Context, p *project.Project, calls []project.Call) error {
		if len(calls) != 1 {
			return &usageError{msg: "tugline why takes one task", hint: "tugline plan shows several"}
		}
		return a.why(ctx, calls[0], run, asJSON)
	})
	cmd.Short = "Show what changed since the last successful run of a task"
	cmd.Flags().SortFlags = false
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	run.addVariables(cmd.Flags())
	return cmd
}

func (a *app) acceptCommand() *cobra.Command {
	run := &runOptions{}
	var asJSON bool
	cmd := a.onCalls("accept TASK…", run, func(ctx context.Context, _ *project.Project, calls []project.Call) error {
		if len(calls) == 0 {
			return &usageError{msg: "tugline accept takes the tasks of which what is there is good", hint: "tugline plan shows what would run"}
		}
		r, err := a.request(calls, run)
		if err != nil {
			return err
		}
		accepted, err := a.session.Accept(ctx, r)
		var refused *cache.AcceptError
		switch {
		case errors.As(err, &refused):
			return &usageError{msg: refused.Msg, hint: "nothing was accepted"}
		case err != nil:
			return err
		case len(accepted) == 0:
			return &usageError{msg: fmt.Sprintf("%q has no commands of its own", calls[0].Name), hint: "accept the tasks that it needs or calls"}
		case asJSON:
			return output.AcceptedJSON(a.env.Stdout, accepted)
		}
		return output.WriteAccepted(a.env.Stdout, accepted, a.style(a.env.Stdout))
	})
	cmd.Short = "Record what is there now as the last good run of a task, without running it"
	cmd.Flags().SortFlags = false
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	run.addVariables(cmd.Flags())
	return cmd
}

func (a *app) why(ctx context.Context, call project.Call, run *runOptions, asJSON bool) error {
	r, err := a.request([]project.Call{call}, run)
	if err != nil {
		return err
	}
	preview, err := a.session.Preview(ctx, r)
	if err != nil {
		return err
	}
	t := a.base.Task(call.Name)
	var all []output.Why
	for _, s := range preview.Steps {
		if s.Step.Task == t && (len(t.Looped()) > 0 || len(all) == 0) {
			shown := output.Why{StepPreview: s}
			shown.Last, shown.Ran = a.session.Ledger.Read(s.Step.ID())
			all = append(all, shown)
		}
	}
	switch {
	case len(all) == 0:
		return a.print(fmt.Sprintf("%s has no commands of its own, only needs and calls\n", t.Name))
	case asJSON && len(t.Looped()) > 0:
		return output.WhysJSON(a.env.Stdout, all)
	case asJSON:
		return output.WhyJSON(a.env.Stdout, all[0])
	}
	for i, shown := range all {
		if i > 0 {
			if err := a.print("\n"); err != nil {
				return err
			}
		}
		if err := output.WriteWhy(a.env.Stdout, shown, a.style(a.env.Stdout)); err != nil {
			return err
		}
	}
	return nil
}

// onCalls returns a command that takes calls, as a run does, and does something
// with them.
func (a *app) onCalls(use string, options *runOptions, do func(context.Context, *project.Project, []project.Call) error) *cobra.Command {
	return &cobra.Command{
		Use:                use,
		Args:               cobra.ArbitraryArgs,
		ValidArgsFunction:  a.complete,
		DisableFlagParsing: true, // tasks have options of their own
		RunE: func(cmd *cobra.Command, words []string) error {
			p, r, err := a.readWords(allFlags(cmd), words)
			switch {
			case err != nil:
				return err
			case r.usage:
				return cmd.Help()
			}
			if err := options.checkVariables(); err != nil {
				return err
			}
			if err := a.checkNames(r.calls); err != nil {
				return err
			}
			return do(cmd.Context(), p, r.calls)
		},
	}
}
