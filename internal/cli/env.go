package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/secret"
	"tugline/internal/shell"
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
	var asJSON, script bool
	options := &runOptions{}
	cmd := a.onCalls("show TASK", options, func(ctx context.Context, p *project.Project, calls []project.Call) error {
		if len(calls) != 1 {
			return &usageError{msg: "tugline show takes one task", hint: "see tugline list for the tasks"}
		}
		if script {
			return a.byHand(ctx, calls[0], options)
		}
		vars, t, err := a.variables(ctx, p, []string{calls[0].Name}, options)
		if err != nil {
			return err
		}
		shown := output.Shown{Task: t, Help: taskHelp(t, a.base), System: runtime.GOOS, Vars: vars, NeededBy: output.NeededBy(p, t)}
		if err := a.addFiles(ctx, &shown, options); err != nil {
			return err
		}
		if asJSON {
			return output.ShowJSON(a.env.Stdout, shown)
		}
		return output.Show(a.env.Stdout, shown, a.style(a.env.Stdout))
	})
	cmd.Short = "Show one task: description, arguments, needs, commands, variables"
	cmd.Flags().SortFlags = false
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().BoolVar(&script, scriptOption, false, "print a shell script that does by hand what the task does")
	options.addVariables(cmd.Flags())
	return cmd
}

// scriptOption is the option of show that asks for a script.
const scriptOption = "script"

// byHand prints a script that does what a call does.
func (a *app) byHand(ctx context.Context, call project.Call, options *runOptions) error {
	t, err := a.task(call.Name)
	if err != nil {
		return err
	}
	r, err := a.request([]project.Call{call}, options)
	if err != nil {
		return err
	}
	pl, err := a.session.Plan(ctx, r)
	if err != nil {
		return err
	}
	var steps []*plan.Step
	for _, s := range pl.Steps {
		if s.Task == t && s.Works() {
			steps = append(steps, s)
		}
	}
	switch {
	case len(steps) == 0:
		return &usageError{msg: fmt.Sprintf("%q runs no commands that a script could hold", t.Name), hint: "show the tasks that it needs or calls"}
	case len(steps) > 1:
		return &usageError{msg: fmt.Sprintf("%q stands for %d calls: name one", t.Name, len(steps)), hint: "such as tugline show " + steps[0].Name + " --script"}
	}
	s := steps[0]
	if s.Skip != "" || len(s.Run) == 0 {
		return &usageError{msg: fmt.Sprintf("%q runs no commands here", s.Name), hint: s.Skip}
	}
	hand := output.ByHand{Call: s.Name, Folder: s.Folder, Words: s.Rest, Folders: s.WriteFolders(a.session.Project.Folder), Secrets: map[string]string{}}
	for _, name := range s.Secrets() {
		hand.Secrets[name] = ""
	}
	caller := map[string]string{}
	for _, pair := range a.env.Vars {
		name, value, _ := strings.Cut(pair, "=")
		caller[name] = value
	}
	values := map[string]string{}
	for _, pair := range s.Environ() {
		name, value, _ := strings.Cut(pair, "=")
		values[name] = value
	}
	for name := range hand.Secrets {
		hand.Secrets[name] = values[name]
		if value := values[name]; value != "" { // in a call it may be quoted
			hand.Call = strings.ReplaceAll(hand.Call, plan.Quote(value), secret.Shown)
		}
	}
	values["TUGLINE_RUN"], values["TUGLINE_TASK"] = "by-hand", hand.Call
	for _, name := range slices.Sorted(maps.Keys(values)) {
		value := values[name]
		if _, hidden := hand.Secrets[name]; hidden {
			continue
		}
		if was, set := caller[name]; !set || was != value {
			hand.Env = append(hand.Env, output.Setting{Name: name, Value: value})
		}
	}
	lookPath := shell.LookPath(s.Environ(), s.Folder)
	for _, text := range s.Run {
		script := output.HandScript{Text: text.Value}
		if len(t.Shell.Args) > 0 || strings.HasPrefix(text.Value, "#!") {
			args, err := shell.Interpreter(text.Value, t.Shell.Args, lookPath)
			if err != nil {
				return &usageError{msg: err.Error()}
			}
			script.Interpreter = args
		}
		hand.Scripts = append(hand.Scripts, script)
	}
	return output.WriteByHand(a.env.Stdout, hand)
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
