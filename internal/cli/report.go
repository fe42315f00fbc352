package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tugline/internal/atomicfile"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/report"
	"tugline/internal/secret"
)

// reportOptions are the options of report.
type reportOptions struct{ out, junit string }

func (a *app) reportCommand() *cobra.Command {
	o := &reportOptions{}
	cmd := &cobra.Command{
		Use:   "report [RUN]",
		Short: "Write a run as one web page: timeline, table, logs of what failed",
		Args:  cobra.MaximumNArgs(1),

		ValidArgsFunction: a.completeRun,
		RunE: func(_ *cobra.Command, args []string) error {
			if _, err := a.load(); err != nil {
				return err
			}
			name := "latest"
			if len(args) == 1 {
				name = args[0]
			}
			run, err := a.findRun(a.session.Ledger, name)
			if err != nil {
				return err
			}
			return a.report(run, o)
		},
	}
	cmd.Flags().SortFlags = false
	cmd.Flags().StringVarP(&o.out, "output-file", "o", "", "write the page to `FILE`; - is standard output (default: report-RUN.html)")
	cmd.Flags().StringVar(&o.junit, "junit", "", "write JUnit XML to `FILE` instead; - is standard output")
	return cmd
}

func (a *app) report(run history.Run, o *reportOptions) error {
	r := a.reportOf(run)
	if o.junit != "" {
		if err := a.writeTo(o.junit, "--junit", r.JUnit); err != nil || o.out == "" {
			return err
		}
	}
	name := o.out
	if name == "" {
		name = "report-" + run.ID + ".html"
	}
	if err := a.writeTo(name, "-o", r.HTML); err != nil || name == "-" {
		return err
	}
	a.tell("written to " + name + "\n")
	return nil
}

// reportOf returns what there is to tell of a run.
func (a *app) reportOf(run history.Run) *report.Report {
	r := &report.Report{Title: a.session.Project.Title, Run: run, Usual: a.session.Ledger.Usual(), Log: func(s *history.RunStep, most int) (string, bool) {
		if s.Log == nil {
			return "", false
		}
		return tail(filepath.Join(a.session.Ledger.RunFolder(run.ID), filepath.FromSlash(*s.Log)), most)
	}}
	r.Run.Request = nil
	for _, word := range run.Request {
		r.Run.Request = append(r.Run.Request, plan.Quote(word))
	}
	if (run.State == history.RunFailed || run.State == history.RunStopped) && !strings.Contains(strings.Join(run.Request, " "), secret.Shown) {
		r.Continue = "tugline resume " + run.ID
	}
	return r
}

// tail returns the end of a log, at most so many bytes of it.
func tail(path string, most int) (text string, cut bool) {
	file, err := os.Open(path)
	if err != nil {
		return "", false // it was removed since
	}
	defer file.Close()
	size, err := file.Seek(0, io.SeekEnd)
	if err != nil {
		return "", false
	}
	start := max(0, size-int64(most))
	if _, err := file.Seek(start, io.SeekStart); err != nil {
		return "", false
	}
	end, _ := io.ReadAll(io.LimitReader(file, int64(most))) // what can be read is shown
	if start > 0 {
		_, after, found := strings.Cut(string(end), "\n")
		if found {
			return after, true
		}
	}
	return string(end), start > 0
}

// writeTo writes to a file whole or not at all, or to standard output.
func (a *app) writeTo(name, option string, write func(io.Writer) error) error {
	if name == "-" {
		return write(a.env.Stdout)
	}
	var text strings.Builder
	if err := write(&text); err != nil {
		return err
	}
	err := writeWhole(a.absolute(name), []byte(text.String()))
	if errors.Is(err, fs.ErrNotExist) {
		return &usageError{msg: fmt.Sprintf("the file %q of %s cannot be written: there is no such folder", name, option)}
	}
	if err != nil {
		return fmt.Errorf("writing the file of %s: %w", option, err)
	}
	return nil
}

// writeWhole writes a file whole or not at all. What is no file, such as a pipe, is written
// into.
func writeWhole(path string, text []byte) error {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		file, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		_, err = file.Write(text)
		return errors.Join(err, file.Close())
	}
	if err := atomicfile.Write(path, text); err != nil {
		return err
	}
	return os.Chmod(path, 0o644) // it is made to be handed on
}

// junit writes what became of the latest run as JUnit XML, if that is wanted.
func (a *app) junit(run, file string) error {
	if file == "" {
		return nil
	}
	recorded, err := a.findRun(a.session.Ledger, run)
	if err != nil {
		return err
	}
	return a.writeTo(file, "--junit", a.reportOf(recorded).JUnit)
}
