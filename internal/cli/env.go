package cli

import (
	"context"
	"errors"
	"runtime"
	"slices"

	"github.com/spf13/cobra"

	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
)

func (a *app) envCommand() *cobra.Command {
	var asJSON, example bool
	options := &runOptions{}
	cmd := &cobra.Command{
		Use:               "env [TASK]",
		Short:             "Show the variables and where each value comes from",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.complete,
		RunE: func(cmd *cobra.Command, words []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			if example {
				return a.print(output.SampleEnvFile(p))
			}
			vars, _, err := a.variables(cmd.Context(), p, words, options)
			if err != nil {
				return err
			}
			if asJSON {
				return output.VariablesJSON(a.env.Stdout, vars)
			}
			return output.Variables(a.env.Stdout, vars, a.style(a.env.Stdout))
		},
	}
	cmd.Flags().SortFlags = false
	cmd.Flags().BoolVar(&example, "example", false, "print a sample env file")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	options.addVariables(cmd.Flags())
	return cmd
}

// planRequest returns what plan is asked when nothing is called.
func (a *app) planRequest(ctx context.Context, options *runOptions) (plan.Request, error) {
	r, err := a.request(nil, options)
	if err != nil {
		return plan.Request{}, err
	}
	return a.session.PlanRequest(ctx, r)
}

// variables returns the variables of the task that words name, or those of the
// project; and the task.
func (a *app) variables(ctx context.Context, p *project.Project, words []string, options *runOptions) ([]plan.Variable, *project.Task, error) {
	var t *project.Task
	if len(words) == 1 {
		var err error
		if t, err = a.task(words[0]); err != nil {
			return nil, nil, err
		}
	}
	if err := options.checkVariables(); err != nil {
		return nil, nil, err
	}
	req, err := a.planRequest(ctx, options)
	if err != nil {
		return nil, nil, err
	}
	vars, err := plan.Variables(p, req, t)
	return vars, t, err
}

func (a *app) showCommand() *cobra.Command {
	var asJSON bool
	options := &runOptions{}
	cmd := &cobra.Command{
		Use:               "show TASK",
		Short:             "Show one task: description, arguments, needs, commands, variables",
		ValidArgsFunction: a.complete,
		Args: func(_ *cobra.Command, words []string) error {
			if len(words) != 1 {
				return &usageError{msg: "tugline show takes one task", hint: "see tugline list for the tasks"}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, words []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			vars, t, err := a.variables(cmd.Context(), p, words, options)
			if err != nil {
				return err
			}
			shown := output.Shown{Task: t, Help: taskHelp(t, a.base), System: runtime.GOOS, Vars: vars, NeededBy: output.NeededBy(p, t)}
			if err := a.addFiles(cmd.Context(), &shown, options); err != nil {
				return err
			}
			if asJSON {
				return output.ShowJSON(a.env.Stdout, shown)
			}
			return output.Show(a.env.Stdout, shown, a.style(a.env.Stdout))
		},
	}
	cmd.Flags().SortFlags = false
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	options.addVariables(cmd.Flags())
	return cmd
}

// addFiles adds what a task reads and writes, and its last good run. A task
// with required arguments has none without them.
func (a *app) addFiles(ctx context.Context, shown *output.Shown, options *runOptions) error {
	t := shown.Task
	if slices.ContainsFunc(t.Args, (*project.Arg).Required) || len(t.Reads)+len(t.Writes) == 0 {
		return nil
	}
	r, err := a.request([]project.Call{{Text: t.Name, Name: t.Name, Task: t}}, options)
	if err != nil {
		return err
	}
	pl, err := a.session.Plan(ctx, r)
	var required *plan.RequiredError
	if errors.As(err, &required) {
		return nil // of it or of what it needs; to show it they need not be set
	}
	if err != nil {
		return err
	}
	known := a.session.Cache(r)
	for _, s := range pl.Steps {
		if s.Task != t || !s.Works() {
			continue
		}
		if last, ran := known.Ledger.Read(s.ID()); ran && last.Finished.After(shown.Last.Finished) {
			shown.Last, shown.Ran = last, true
		}
		reads, writes, err := known.Paths(s)
		if err != nil {
			return err
		}
		shown.Reads, shown.Writes = append(shown.Reads, reads...), append(shown.Writes, writes...)
	}
	for _, paths := range []*[]string{&shown.Reads, &shown.Writes} {
		slices.Sort(*paths)
		*paths = slices.Compact(*paths)
	}
	return nil
}
