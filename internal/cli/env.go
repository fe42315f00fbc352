package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"tugline/internal/engine"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// envFiles reads the env files that the project names, then those of the
// command line.
func (a *app) envFiles(p *project.Project, more []string) ([]project.Settings, error) {
	var all []project.Settings
	var missing project.Diagnostics
	for _, f := range p.EnvFiles {
		path := f.Path.Value
		if !filepath.IsAbs(path) {
			path = filepath.Join(p.Folder, path)
		}
		settings, err := a.envFile(path)
		switch {
		case errors.Is(err, fs.ErrNotExist) && f.Required:
			missing = append(missing, project.Diagnostic{Span: f.Path.Span, Msg: fmt.Sprintf("the env file %q is not there", f.Path.Value)})
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, err
		default:
			all = append(all, settings)
		}
	}
	if len(missing) > 0 {
		return nil, &engine.MissingError{Diagnostics: missing}
	}
	for _, name := range more {
		settings, err := a.envFile(a.absolute(name))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, &usageError{msg: fmt.Sprintf("the env file %q is not there", name)}
		}
		if err != nil {
			return nil, err
		}
		all = append(all, settings)
	}
	return all, nil
}

func (a *app) envFile(path string) (project.Settings, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return project.Settings{}, fmt.Errorf("reading an env file: %w", err)
	}
	settings, err := project.ParseEnvFile(a.shown(path), text)
	if err != nil {
		return project.Settings{}, &usageError{msg: err.Error()}
	}
	return settings, nil
}

// compute returns how to find the value of a computed variable of p: a file's
// text, or what a script prints.
func (a *app) compute(ctx context.Context, p *project.Project) func(*project.Var, []string, string) (string, error) {
	return func(v *project.Var, env []string, file string) (string, error) {
		if v.Run.Value != "" {
			out, err := engine.Output(ctx, v.Run, env, p.Folder, grace)
			return strings.TrimRight(out, "\r\n"), err
		}
		if !filepath.IsAbs(file) {
			file = filepath.Join(p.Folder, file)
		}
		text, err := os.ReadFile(file)
		var path *fs.PathError
		if errors.As(err, &path) {
			return "", fmt.Errorf("reading %s: %w", a.shown(file), path.Err)
		}
		return strings.TrimSpace(string(text)), err
	}
}

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
			vars, err := a.variables(cmd.Context(), p, words, options)
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
	cmd.Flags().BoolVar(&example, "example", false, "write the text of a sample env file")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	options.addVariables(cmd.Flags())
	return cmd
}

// variables returns the variables of the task that words name, or those of the
// project.
func (a *app) variables(ctx context.Context, p *project.Project, words []string, options *runOptions) ([]plan.Variable, error) {
	var t *project.Task
	if len(words) == 1 {
		if t = p.Task(words[0]); t == nil {
			return nil, &plan.CallError{Name: words[0], Near: project.Nearest(words[0], p.Names())}
		}
	}
	if err := options.checkVariables(); err != nil {
		return nil, err
	}
	files, err := a.envFiles(p, options.files)
	if err != nil {
		return nil, err
	}
	return plan.Variables(p, plan.Request{
		Env: a.env.Vars, Set: options.set, Files: files, Compute: a.compute(ctx, p), From: a.env.Folder, OS: runtime.GOOS, Arch: runtime.GOARCH,
	}, t)
}

func (a *app) showCommand() *cobra.Command {
	var asJSON bool
	options := &runOptions{}
	cmd := &cobra.Command{
		Use:               "show TASK",
		Short:             "Show all of one task: texts, arguments, needs, commands, variables",
		ValidArgsFunction: a.complete,
		Args: func(_ *cobra.Command, words []string) error {
			if len(words) != 1 {
				return &usageError{msg: "tugline show takes one task", hint: "tugline list shows the tasks"}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, words []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			vars, err := a.variables(cmd.Context(), p, words, options)
			if err != nil {
				return err
			}
			t := p.Task(words[0])
			shown := output.Shown{Task: t, Help: taskHelp(t), System: runtime.GOOS, Vars: vars, NeededBy: output.NeededBy(p, t)}
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
