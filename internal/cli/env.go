package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/history"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/shell"
)

// request returns what is asked for of the world when something of p is planned,
// without the calls. All commands ask for the same, so that a plan knows what a
// run knows. What it starts is ended with this call of Tugline.
func (a *app) request(ctx context.Context, p *project.Project, options *runOptions) (plan.Request, error) {
	if a.env.Program != "" {
		shell.SetGuard([]string{a.env.Program, guardCommand, "TUGLINE_RUN=" + a.runName})
	}
	files, err := a.userEnvFiles(options.files)
	return plan.Request{
		Jobs: options.jobsFor(p), Run: a.runName, IsFolder: isFolderIn(p),
		Env: a.env.Vars, Set: options.set, Files: files, EnvFiles: a.envFiles, Compute: a.compute(ctx), List: func(l plan.Listed) ([]string, error) { return a.listed(ctx, l) }, Secrets: a.secrets,
		From: a.env.Folder, Base: a.base, OS: runtime.GOOS, Arch: runtime.GOARCH,
	}, err
}

// isFolderIn returns what tells whether a path of a project is a folder, or was
// made one by a run.
func isFolderIn(p *project.Project) func(path string) bool {
	ledger := history.At(p.Folder)
	return func(path string) bool {
		info, err := os.Stat(filepath.Join(p.Folder, filepath.FromSlash(path)))
		return err == nil && info.IsDir() || ledger.IsFolder(path)
	}
}

// envFiles reads the env files that a project file names.
func (a *app) envFiles(f *project.File) ([]project.Settings, error) {
	var all []project.Settings
	var missing project.Diagnostics
	for _, file := range f.EnvFiles {
		path := file.Path.Value
		if !filepath.IsAbs(path) {
			path = filepath.Join(f.Folder, path)
		}
		settings, err := a.envFile(path)
		switch {
		case errors.Is(err, fs.ErrNotExist) && file.MustExist:
			missing = append(missing, project.Diagnostic{Span: file.Path.Span, Msg: fmt.Sprintf("the env file %q does not exist", file.Path.Value)})
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
	return all, nil
}

// userEnvFiles reads the env files of the command line.
func (a *app) userEnvFiles(names []string) ([]project.Settings, error) {
	var all []project.Settings
	for _, name := range names {
		settings, err := a.envFile(a.absolute(name))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, &usageError{msg: fmt.Sprintf("the env file %q does not exist", name)}
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

// compute returns how to find the value of a computed variable: a file's text,
// or what a script prints, both in the folder of the file that declares it.
func (a *app) compute(ctx context.Context) func(*project.Var, []string, string) (string, error) {
	return func(v *project.Var, env []string, file string) (string, error) {
		if v.Run.Value != "" {
			out, err := engine.Output(ctx, v.Run, env, v.Span.Source.Folder(), grace)
			return strings.TrimRight(out, "\r\n"), err
		}
		if !filepath.IsAbs(file) {
			file = filepath.Join(v.Span.Source.Folder(), file)
		}
		text, err := os.ReadFile(file)
		var path *fs.PathError
		if errors.As(err, &path) {
			return "", fmt.Errorf("reading %s: %w", a.shown(file), path.Err)
		}
		return strings.TrimSpace(string(text)), err
	}
}

// listed finds the values of a list.
func (a *app) listed(ctx context.Context, l plan.Listed) ([]string, error) {
	switch {
	case l.Run.Value != "":
		out, err := engine.Output(ctx, l.Run, l.Env, l.Folder, grace)
		return project.Lines(out, false), err
	case l.Lines != "":
		path := l.Lines
		if !filepath.IsAbs(path) {
			path = filepath.Join(l.Folder, path)
		}
		text, err := os.ReadFile(path)
		var bad *fs.PathError
		if errors.As(err, &bad) {
			return nil, fmt.Errorf("reading %s: %w", a.shown(path), bad.Err)
		}
		return project.Lines(string(text), true), err
	}
	return cache.Paths(a.files(), l.Globs)
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
	req, err := a.request(ctx, p, options)
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
			if err := a.addFiles(cmd.Context(), p, &shown, options); err != nil {
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
func (a *app) addFiles(ctx context.Context, p *project.Project, shown *output.Shown, options *runOptions) error {
	t := shown.Task
	if slices.ContainsFunc(t.Args, (*project.Arg).Required) || len(t.Reads)+len(t.Writes) == 0 {
		return nil
	}
	pl, memory, err := a.planned(ctx, p, []project.Call{{Text: t.Name, Name: t.Name, Task: t}}, options, false)
	var required *plan.RequiredError
	if errors.As(err, &required) {
		return nil // of it or of what it needs; to show it they need not be set
	}
	if err != nil {
		return err
	}
	for _, s := range pl.Steps {
		if s.Task != t || !s.Works() {
			continue
		}
		if last, ran := memory.Ledger.Read(s.ID()); ran && last.Finished.After(shown.Last.Finished) {
			shown.Last, shown.Ran = last, true
		}
		reads, writes, err := memory.Paths(s)
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
