package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/secret"
	"tugline/internal/session"
)

// Version is what "tugline version" tells; the release sets it.
var Version = "0.1.0-dev"

// app is one call of Tugline: the world it sees and the options that hold
// everywhere.
type app struct {
	env Env

	runName string // the name of this run, if it becomes one
	stood   string // where the user stood, before -C
	folder  string // -C
	file    string // --file
	color   string // --color
	quiet   bool
	verbose bool

	base    *project.File // the file whose tasks bare names mean: the one nearest to where the user stands
	session *session.Session
	secrets *secret.Mask // never shown

	answered     map[plan.Question]bool
	top, nearest string // the paths of the project file and of the file of base
}

// root makes the tree of commands, anew for each call.
func (a *app) root() *cobra.Command {
	run := &runOptions{}
	root := &cobra.Command{
		Use:   "tugline [OPTIONS] TASK…",
		Short: "Run the tasks of a project, in order or in parallel",
		Long: `Tugline runs the tasks that a project names in its tugline.toml, in the right
order, independent ones at the same time.

  tugline                 run the default task, or list the tasks
  tugline build test      run two tasks, in this order, each with what it needs
  tugline list            the tasks of this project
  tugline demo            a whole project to look at`,
		Args:               cobra.ArbitraryArgs,
		SilenceUsage:       true,
		SilenceErrors:      true,
		DisableAutoGenTag:  true,
		DisableFlagParsing: true, // tasks have options of their own
		RunE: func(cmd *cobra.Command, words []string) error {
			return a.runWords(cmd, words, run)
		},
	}
	root.SetIn(a.env.Stdin)
	root.SetOut(a.env.Stdout)
	root.SetErr(a.env.Stderr)
	root.ValidArgsFunction = a.complete
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error {
		return optionError(err)
	})
	flags := root.PersistentFlags()
	flags.SortFlags = false
	flags.StringVarP(&a.folder, "folder", "C", "", "run as if started in `FOLDER`")
	flags.StringVar(&a.file, "file", a.file, "use `FILE` as the project file")
	flags.BoolVarP(&a.quiet, "quiet", "q", false, "show only task output and failures")
	flags.BoolVarP(&a.verbose, "verbose", "v", false, "show groups and, in lists, dependencies")
	flags.StringVar(&a.color, "color", "auto", "use colors `WHEN`: auto, always or never")
	run.add(root.Flags())
	root.AddCommand(a.runCommand(), a.listCommand(), a.doctorCommand(), a.demoCommand(), a.envCommand(), a.showCommand(), a.planCommand(), a.acceptCommand(), a.graphCommand(), a.whyCommand(), a.whoCommand(), a.resumeCommand(), a.runsCommand(), a.reportCommand(), a.logCommand(), a.sweepCommand(), a.storeCommand(), a.watchCommand(), a.serviceCommand(), a.supervisorCommand(), a.schemaCommand(), a.versionCommand(), a.guardCommand())
	root.SetHelpCommand(a.helpCommand(root))
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	for _, cmd := range root.Commands() {
		if cmd.Name() == "completion" {
			cmd.Short = "Print the completion script for a shell"
		}
	}
	for _, cmd := range append(root.Commands(), root) {
		cmd.DisableFlagsInUseLine = true
	}
	root.SetUsageTemplate(usageTemplate)
	root.PersistentPreRunE = func(*cobra.Command, []string) error { return a.checkGlobalOptions() }
	return root
}

// usageTemplate is the help of a command, below its text.
const usageTemplate = `Usage:
  {{.UseLine}}
{{- if .HasAvailableSubCommands}}

Commands:
{{- range .Commands}}{{if .IsAvailableCommand}}
  {{rpad .Name .NamePadding}}  {{.Short}}{{end}}{{end}}
{{- end}}
{{- if .HasAvailableLocalFlags}}

Options:
{{.LocalFlags.FlagUsages | trimTrailingWhitespaces}}
{{- end}}
{{- if .HasAvailableInheritedFlags}}

Options of every command:
{{.InheritedFlags.FlagUsages | trimTrailingWhitespaces}}
{{- end}}
{{- if .HasAvailableSubCommands}}

Run tugline help COMMAND for more about a command.
{{- end}}
`

// checkGlobalOptions checks the options that hold everywhere.
func (a *app) checkGlobalOptions() error {
	if err := a.checkColor(); err != nil {
		return err
	}
	return a.goTo(a.folder)
}

func (a *app) checkColor() error {
	if !slices.Contains([]string{"auto", "always", "never"}, a.color) {
		return &usageError{msg: fmt.Sprintf("--color must be auto, always or never, not %q", a.color)}
	}
	return nil
}

// goTo has what follows mean the folder of -C; empty: where the user stands.
func (a *app) goTo(folder string) error {
	if folder == "" {
		return nil
	}
	path := a.absolute(folder)
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return &usageError{msg: fmt.Sprintf("the folder %q of -C does not exist", folder)}
	}
	a.env.Folder = path
	return nil
}

// absolute returns the path as it is meant from where the user stands.
func (a *app) absolute(path string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(a.env.Folder, path)
}

// load finds and reads the project file with its parts.
func (a *app) load() (*project.Project, error) {
	if a.file != "" {
		a.top = a.absolute(a.file)
		a.nearest = a.top
	} else {
		var err error
		if a.top, a.nearest, err = project.Find(a.env.Folder); err != nil {
			return nil, err
		}
	}
	p, err := a.loadFound()
	if err != nil {
		return nil, err
	}
	var working func(string) func()
	if output.IsTerminal(a.env.Stderr) && !a.quiet {
		working = (&output.Working{Out: a.env.Stderr, Style: a.style(a.env.Stderr)}).Do
	}
	a.session = session.Open(p, a.base, session.Config{
		Working: working,
		Vars:    a.env.Vars, From: a.env.Folder, Run: a.runName, Grace: grace, Kill: a.env.Kill, Mask: a.secrets, Guard: a.guard(), Supervisor: []string{a.env.Program, superviseCommand},
		QRCode: func(address string) string {
			if !a.verbose {
				return ""
			}
			return output.QRCode(address)
		},
		Shown: a.shown, Warn: func(text string) { a.tell("tugline: " + text + "\n") },
	})
	return p, nil
}

// loadFound reads the project file that was found.
func (a *app) loadFound() (*project.Project, error) {
	p, err := project.Load(a.top, a.shown)
	if err != nil {
		return nil, err
	}
	if a.base = p.FileAt(a.nearest); a.base == nil {
		a.base = p.File // it has changed in between
	}
	return p, nil
}

// guard returns how this program is started as the guard of what it starts.
func (a *app) guard() []string {
	if a.env.Program == "" {
		return nil
	}
	return []string{a.env.Program, guardCommand}
}

// task returns the task of p that a word of the command line means.
func (a *app) task(name string) (*project.Task, error) {
	t := a.base.Task(name)
	switch {
	case t == nil:
		return nil, &plan.CallError{Name: name, Near: a.base.Near(name)}
	case t.Absent != "":
		return nil, &usageError{msg: fmt.Sprintf("there is no task %q: %s", name, t.Absent)}
	}
	return t, nil
}

// shown returns path as the user would write it from where they stand.
func (a *app) shown(path string) string {
	rel, err := filepath.Rel(a.env.Folder, path)
	if err != nil || len(rel) > len(path) {
		return path
	}
	return rel
}

// style returns how to dress what goes to f.
func (a *app) style(f *os.File) output.Style {
	switch a.color {
	case "always":
		return output.Style{Color: true}
	case "never":
		return output.Style{}
	}
	plain := a.variable("NO_COLOR") != "" || a.variable("TERM") == "dumb" || a.variable("CI") != ""
	return output.Style{Color: !plain && output.IsTerminal(f)}
}

// variable returns a variable of the caller's environment.
func (a *app) variable(name string) string {
	for _, pair := range slices.Backward(a.env.Vars) {
		if value, ok := strings.CutPrefix(pair, name+"="); ok {
			return value
		}
	}
	return ""
}

// print writes a result.
func (a *app) print(text string) error {
	_, err := io.WriteString(a.env.Stdout, text)
	return err
}

// noArgs refuses words behind a command that takes none.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return &usageError{msg: fmt.Sprintf("tugline %s takes no %q", cmd.Name(), args[0])}
	}
	return nil
}
