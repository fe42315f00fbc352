package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tugline/internal/graph"
	"tugline/internal/output"
	"tugline/internal/project"
)

// graphOptions are the options of graph.
type graphOptions struct {
	format, run string
	each        bool
}

func (a *app) graphCommand() *cobra.Command {
	run, o := &runOptions{}, &graphOptions{}
	var cmd *cobra.Command
	cmd = a.onCalls("graph [TASK…]", run, func(ctx context.Context, p *project.Project, calls []project.Call) error {
		if !slices.Contains(output.GraphFormats, o.format) {
			return &usageError{msg: fmt.Sprintf("--format must be %s, not %q", strings.Join(output.GraphFormats, ", "), o.format)}
		}
		return a.graph(ctx, cmd, p, calls, run, o)
	})
	cmd.Short = "Draw which tasks come before which, and what can run side by side"
	flags := cmd.Flags()
	flags.SortFlags = false
	flags.StringVar(&o.format, "format", "tree", "write it in `FORMAT`: tree, dot, mermaid, svg or json")
	flags.BoolVar(&o.each, "each", false, "draw all instances of a task, instead of one node with their number")
	flags.StringVar(&o.run, "run", "", "with the states and times of `RUN`; latest is the last one")
	run.addVariables(flags)
	return cmd
}

func (a *app) graph(ctx context.Context, cmd *cobra.Command, p *project.Project, calls []project.Call, options *runOptions, o *graphOptions) error {
	var drawn output.DrawnGraph
	if o.run != "" {
		run, err := a.findRun(a.session.Ledger, o.run)
		if err != nil {
			return err
		}
		drawn.Run = &run
		if len(calls) == 0 {
			words := &wordReader{flags: allFlags(cmd), folder: a.env.Folder, base: a.base}
			if words.read(run.Request) == nil { // else the tasks of now are drawn
				calls = slices.DeleteFunc(words.calls, func(c project.Call) bool { return a.base.Task(c.Name) == nil })
			}
		}
	}
	if len(calls) == 0 {
		calls = p.Default
	}
	if len(calls) == 0 {
		return &usageError{msg: "tugline graph needs a task: the project has no default", hint: "see tugline list for the tasks"}
	}
	r, err := a.request(calls, options)
	if err != nil {
		return err
	}
	r.NoCompute = true
	pl, err := a.session.Plan(ctx, r)
	if err != nil {
		return err
	}
	drawn.Graph = graph.Of(pl, o.each)
	err = output.WriteGraph(a.env.Stdout, drawn, o.format, a.style(a.env.Stdout))
	if errors.Is(err, output.ErrTooWide) {
		return &usageError{msg: err.Error(), hint: "tugline graph --format svg >graph.svg draws it for a browser"}
	}
	return err
}
