package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"tugline/demo"
	"tugline/internal/plan"
	"tugline/internal/project"
)

func (a *app) demoCommand() *cobra.Command {
	options := &runOptions{}
	cmd := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Write the demo project, a harbour almanac, and run it",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := options.check(cmd.Flags()); err != nil {
				return err
			}
			folder := "almanac"
			if len(args) == 1 {
				folder = args[0]
			}
			if err := writeDemo(a.absolute(folder)); err != nil {
				return err
			}
			fmt.Fprintf(a.env.Stderr, "The harbour almanac is in %s; now its default task runs.\n\n", folder)
			return a.runDemo(cmd, folder, options)
		},
	}
	options.add(cmd.Flags())
	return cmd
}

func (a *app) runDemo(cmd *cobra.Command, folder string, options *runOptions) error {
	a.file = filepath.Join(folder, project.FileName)
	p, err := a.load()
	if err != nil {
		return err
	}
	if err := a.runCalls(cmd.Context(), p.Default, options); err != nil {
		return err
	}
	fmt.Fprintf(a.env.Stderr, `
What to try next:
  open %s           the almanac, in a browser
  cd %s
  tugline list                            its tasks
  tugline tides --port merrowick --day 5  one task with its arguments
  COURIER_KEY=k-123 tugline courier/send  a task of another file, with a secret
  less tugline.toml                       how they are written
`, plan.Quote(filepath.Join(folder, "out", "index.html")), plan.Quote(folder))
	return nil
}

// writeDemo writes the demo project into folder, which must be empty or not there.
func writeDemo(folder string) error {
	entries, err := os.ReadDir(folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return &usageError{msg: fmt.Sprintf("%q cannot hold the demo: %v", folder, err)}
	case len(entries) > 0:
		return &usageError{
			msg:  fmt.Sprintf("the folder %q is not empty, so the demo is not written there", folder),
			hint: "name another: tugline demo FOLDER",
		}
	}
	return fs.WalkDir(demo.Files, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || path == "." || path == "demo.go" {
			return err
		}
		target := filepath.Join(folder, filepath.FromSlash(path))
		if entry.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		text, err := fs.ReadFile(demo.Files, path)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
		return os.WriteFile(target, text, 0o644)
	})
}
