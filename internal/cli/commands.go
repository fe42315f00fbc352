package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tugline/internal/engine"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/session"
	"tugline/internal/shell"
)

func (a *app) listCommand() *cobra.Command {
	var all, asJSON bool
	var order string
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List the tasks",
		Args:  noArgs,
		RunE: func(*cobra.Command, []string) error {
			if order != "file" && order != "name" {
				return &usageError{msg: fmt.Sprintf("--sort must be name or file, not %q", order)}
			}
			p, err := a.load()
			if err != nil {
				return err
			}
			tasks := output.Listed(p, a.base, all, order == "name")
			if asJSON {
				return output.ListJSON(a.env.Stdout, tasks)
			}
			return a.list(p, tasks)
		},
	}
	cmd.Flags().SortFlags = false
	cmd.Flags().BoolVar(&all, "all", false, "include unlisted tasks")
	cmd.Flags().StringVar(&order, "sort", "file", "sort `ORDER`: file or name")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return cmd
}

// list shows tasks of p.
func (a *app) list(p *project.Project, tasks []*project.Task) error {
	return output.List(a.env.Stdout, output.Listing{Title: p.Title, Base: a.base, Tasks: tasks, Needs: a.verbose}, a.style(a.env.Stdout))
}

func (a *app) doctorCommand() *cobra.Command {
	var fileOnly bool
	cmd := &cobra.Command{
		Use:   "doctor [TASK…]",
		Short: "Check the project file and the requirements of its tasks",
		Args:  cobra.ArbitraryArgs,

		ValidArgsFunction: a.complete,
		RunE: func(cmd *cobra.Command, words []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			a.warn(cmd.Root(), p)
			if !fileOnly {
				if err := a.warnOfStale(cmd.Context(), p); err != nil {
					return err
				}
			}
			if err := a.examine(cmd.Context(), p, words, fileOnly); err != nil {
				return err
			}
			if !fileOnly {
				if err := a.tellShells(cmd.Context(), p); err != nil {
					return err
				}
			}
			what := p.Source.Name
			if parts := len(p.Files) - 1; parts > 0 {
				what += " with " + count(parts, "part")
			}
			return a.print(fmt.Sprintf("%s: %s, no problems found\n", what, count(len(p.Tasks), "task")))
		},
	}
	cmd.Flags().BoolVar(&fileOnly, "file-only", false, "check only the project file, not this machine")
	return cmd
}

// warn tells of tasks that a command of the same name hides.
func (a *app) warn(root *cobra.Command, p *project.Project) {
	var warnings project.Diagnostics
	hides := func(name string, span project.Span) {
		for _, cmd := range root.Commands() {
			if cmd.Name() == name {
				warnings = append(warnings, project.Diagnostic{
					Span: span, Msg: fmt.Sprintf("warning: %q is the name of a command, which wins", name),
					Hint: fmt.Sprintf("tugline run %s reaches the task", name),
				})
			}
		}
	}
	for _, t := range p.File.Tasks {
		hides(t.Name, t.Span)
		for _, alias := range t.Aliases {
			hides(alias.Value, alias.Span)
		}
	}
	a.tell(output.Diagnostics(warnings, a.style(a.env.Stderr)))
}

// tellShells tells how many scripts run in the built-in shell and how many in bash, and
// which bash that is. Where there is none, each script that needs it is told.
func (a *app) tellShells(ctx context.Context, p *project.Project) error {
	var needs []engine.ScriptShell
	var tasks []*project.Task // by needs
	builtin := 0
	for _, t := range p.Tasks {
		for _, by := range engine.ShellsOf(t, runtime.GOOS) {
			switch by.Name {
			case "builtin":
				builtin++
			case "bash":
				needs, tasks = append(needs, by), append(tasks, t)
			}
		}
	}
	if len(needs) == 0 {
		return a.print(output.Shells(builtin, 0, "", ""))
	}
	path, err := shell.LookPath(a.env.Vars, p.Folder)("bash")
	if err == nil {
		return a.print(output.Shells(builtin, len(needs), path, shell.BashVersion(ctx, path)))
	}
	var warnings project.Diagnostics
	for i, by := range needs {
		if by.Span.IsZero() {
			by.Span = tasks[i].Span
		}
		warnings = append(warnings, project.Diagnostic{
			Span: by.Span, Msg: fmt.Sprintf("warning: task %q needs bash, which is not on the PATH", tasks[i].Name),
			Hint: "for " + cmp.Or(by.Why, "its shell is bash") + "; without bash the built-in shell runs it",
		})
	}
	a.tell(output.Diagnostics(warnings, a.style(a.env.Stderr)))
	return nil
}

// warnOfStale tells of outputs that no task makes any more.
func (a *app) warnOfStale(ctx context.Context, p *project.Project) error {
	stale, err := a.stale(ctx, p)
	for i, s := range stale {
		if i == staleTold {
			a.tell(fmt.Sprintf("stale: what %d more calls made; tugline sweep --stale -n lists all\n", len(stale)-i))
			break
		}
		a.tell(output.Line(fmt.Sprintf("stale: %s, made by %q; tugline sweep --stale deletes it", strings.Join(s.Paths, ", "), s.Record.Call)) + "\n")
	}
	return err
}

// staleTold is of how many calls doctor tells that they left stale outputs.
const staleTold = 10

// examine checks every script of p and, unless fileOnly is set, whether its
// interpreters are there, and what the tasks called names require; without
// names, all tasks.
func (a *app) examine(ctx context.Context, p *project.Project, names []string, fileOnly bool) error {
	err := engine.Examine(p.Tasks, runtime.GOOS, shell.LookPath(a.env.Vars, p.Folder))
	var missing *engine.MissingError
	if err != nil && !(fileOnly && errors.As(err, &missing)) {
		return err
	}
	req, err := a.planRequest(ctx, &runOptions{})
	if err != nil {
		return err
	}
	req.Compute = nil
	tasks := p.Tasks
	if len(names) > 0 {
		tasks = nil
		for _, name := range names {
			t, err := a.task(name)
			if err != nil {
				return err
			}
			tasks = append(tasks, t)
		}
	}
	pl, err := planAll(p, req, tasks)
	var required *plan.RequiredError
	if fileOnly && (errors.As(err, &required) || errors.As(err, &missing)) {
		return nil
	}
	if err != nil || fileOnly {
		return err
	}
	empty, err := a.session.Cache(session.Request{}).EmptyReadsOf(pl.Steps)
	if err != nil {
		return err
	}
	a.tell(output.Diagnostics(output.EmptyReads(empty), a.style(a.env.Stderr)))
	checked, missingErr := a.session.Requirements(ctx, pl)
	if err := output.Requirements(a.env.Stdout, checked, a.style(a.env.Stdout)); err != nil {
		return err
	}
	return missingErr
}

// planAll plans those of tasks that need no argument, which shows whether all
// texts can be filled in. Tasks that call others in order are planned alone:
// each may have an order of its own.
func planAll(p *project.Project, req plan.Request, tasks []*project.Task) (*plan.Plan, error) {
	var together []project.Call
	var groups [][]project.Call
	for _, t := range tasks {
		call := project.Call{Text: t.Name, Name: t.Name, Task: t}
		switch {
		case slices.ContainsFunc(t.Args, (*project.Arg).Required):
		case t.Composite():
			groups = append(groups, []project.Call{call})
		default:
			together = append(together, call)
		}
	}
	all := &plan.Plan{Project: p}
	for _, calls := range append([][]project.Call{together}, groups...) {
		req.Calls = calls
		pl, err := plan.New(p, req)
		if err != nil {
			return nil, err
		}
		all.Steps = append(all.Steps, pl.Steps...)
	}
	return all, nil
}

// count writes a number with its noun.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the project file, for editors",
		Args:  noArgs,
		RunE: func(*cobra.Command, []string) error {
			return output.JSON(a.env.Stdout, project.Schema())
		},
	}
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Print the version",
		Args:  noArgs,
		RunE: func(*cobra.Command, []string) error {
			return a.print(fmt.Sprintf("tugline %s (%s/%s, %s)\n", Version, runtime.GOOS, runtime.GOARCH, runtime.Version()))
		},
	}
}

func (a *app) guardCommand() *cobra.Command {
	return &cobra.Command{
		Use:    guardCommand,
		Short:  "End what is left when Tugline is killed",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			shell.Guard(a.env.Stdin, os.NewFile(3, "groups"), args[0])
			return nil
		},
	}
}

func (a *app) helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND or TASK]",
		Short: "Show help for a command or a task",
		Args:  cobra.ArbitraryArgs,
		RunE: func(_ *cobra.Command, words []string) error {
			if cmd, rest, err := root.Find(words); err == nil && len(rest) == 0 {
				return cmd.Help()
			}
			if _, err := a.load(); err != nil {
				return err
			}
			t, err := a.task(words[0])
			if err != nil {
				return err
			}
			return a.print(taskHelp(t, a.base))
		},
	}
}
