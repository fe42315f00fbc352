package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/alecthomas/units"
	"github.com/spf13/cobra"

	"tugline/internal/engine"
	"tugline/internal/history"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/store"
	"tugline/internal/tracked"
)

func (a *app) whoCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "who FILE",
		Short: "Tell which task makes a file, which read it, and when it was last made",
		Args: func(_ *cobra.Command, words []string) error {
			if len(words) != 1 {
				return &usageError{msg: "tugline who takes one file"}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, words []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			who, err := a.who(cmd.Context(), p, words[0])
			if err != nil {
				return err
			}
			if asJSON {
				return output.WhoJSON(a.env.Stdout, who)
			}
			return output.WriteWho(a.env.Stdout, who, a.style(a.env.Stdout))
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return cmd
}

// who finds what is known of a file, by the project file and by the records.
func (a *app) who(ctx context.Context, p *project.Project, name string) (output.Who, error) {
	rel, err := filepath.Rel(p.Folder, a.absolute(name))
	if err != nil {
		return output.Who{}, &usageError{msg: fmt.Sprintf("%q is not in the project", name)}
	}
	who := output.Who{Path: filepath.ToSlash(rel)}
	req, err := a.request(ctx, p, &runOptions{})
	if err != nil {
		return who, err
	}
	makes, reads := plan.Mentions(p, req, who.Path)
	records := history.At(p.Folder).All()
	slices.SortFunc(records, func(x, y history.Record) int { return y.Finished.Compare(x.Finished) })
	who.Makes = whoTasks(makes, records, func(r history.Record) bool { return holds(r, who.Path, true) })
	who.Reads = whoTasks(reads, records, func(r history.Record) bool { return holds(r, who.Path, false) })
	return who, nil
}

func holds(r history.Record, path string, made bool) bool {
	list := r.Fingerprint.Files
	if made {
		list = r.Outputs
	}
	for _, f := range list {
		if f.Path == path {
			return true
		}
	}
	return false
}

// whoTasks joins what the project file says with what the records say: each
// call that did it, and each task of which no call is recorded.
func whoTasks(mentions []plan.Mention, records []history.Record, did func(history.Record) bool) []output.WhoTask {
	var tasks []output.WhoTask
	recorded := map[string]bool{}
	for _, r := range records {
		if did(r) {
			t := output.WhoTask{Name: r.Call, Run: &r.Run, When: &r.Finished}
			for _, m := range mentions {
				if m.Task.Name == r.Task {
					t.Pattern, t.Place = m.Glob.Text.Value, m.Glob.Text.Span.String()
				}
			}
			recorded[r.Task] = true
			tasks = append(tasks, t)
		}
	}
	for _, m := range mentions {
		if !recorded[m.Task.Name] {
			tasks = append(tasks, output.WhoTask{Name: m.Call, Pattern: m.Glob.Text.Value, Place: m.Glob.Text.Span.String()})
		}
	}
	return tasks
}

func (a *app) sweepCommand() *cobra.Command {
	run := &runOptions{}
	var stale bool
	cmd := a.onCalls("sweep [TASK…]", run, func(ctx context.Context, p *project.Project, calls []project.Call) error {
		paths, err := a.sweepable(ctx, p, calls, stale)
		if err != nil {
			return err
		}
		return a.sweep(ctx, p, paths, run.dryRun)
	})
	cmd.Short = "Delete what tasks have made, never what is under version control"
	cmd.Flags().SortFlags = false
	cmd.Flags().BoolVarP(&run.dryRun, "dry-run", "n", false, "only show what would be deleted")
	cmd.Flags().BoolVar(&stale, "stale", false, "delete what earlier runs made and no task makes any more")
	return cmd
}

// sweepable returns the files to delete: those of calls, or of all tasks.
func (a *app) sweepable(ctx context.Context, p *project.Project, calls []project.Call, stale bool) ([]string, error) {
	options := &runOptions{}
	if stale {
		found, err := a.stale(ctx, p)
		var paths []string
		for _, s := range found {
			if len(calls) == 0 || slices.ContainsFunc(calls, func(c project.Call) bool { return a.base.Task(c.Name).Name == s.Record.Task }) {
				paths = append(paths, s.Paths...)
			}
		}
		slices.Sort(paths)
		return slices.Compact(paths), err
	}
	wanted := map[*project.Task]bool{}
	for _, c := range calls {
		wanted[a.base.Task(c.Name)] = true
	}
	if len(calls) == 0 {
		for _, t := range p.Tasks {
			if len(t.Writes) > 0 && !slices.ContainsFunc(t.Args, (*project.Arg).Required) {
				calls = append(calls, project.Call{Text: t.Name, Name: t.Name, Task: t})
				wanted[t] = true
			}
		}
	}
	pl, memory, err := a.planned(ctx, p, calls, options, false)
	if err != nil {
		return nil, err
	}
	return memory.Outputs(pl, func(s *plan.Step) bool { return wanted[s.Task] })
}

// stale returns what earlier runs made and no task makes any more.
func (a *app) stale(ctx context.Context, p *project.Project) ([]engine.Stale, error) {
	req, err := a.request(ctx, p, &runOptions{})
	if err != nil {
		return nil, err
	}
	memory, err := a.memory(p, &memoryOptions{}, nil)
	if err != nil {
		return nil, err
	}
	return memory.Stale(plan.Written(p, req))
}

// sweep deletes files, but for those under version control, and tells of each.
func (a *app) sweep(ctx context.Context, p *project.Project, paths []string, dryRun bool) error {
	kept, err := tracked.Files(ctx, p.Folder)
	if errors.Is(err, tracked.ErrUnknown) {
		return &usageError{msg: err.Error(), hint: "so nothing is deleted"}
	}
	if err != nil {
		return err
	}
	keep := func(path string) bool { return kept[path] }
	var removed []string
	if dryRun {
		removed = slices.DeleteFunc(slices.Clone(paths), keep)
	} else {
		memory, err := a.memory(p, &memoryOptions{}, nil)
		if err != nil {
			return err
		}
		removed, err = memory.Sweep(paths, keep)
		if err != nil {
			defer a.tell("tugline: " + err.Error() + "\n")
		}
	}
	var b strings.Builder
	for _, path := range removed {
		b.WriteString(path + "\n")
	}
	verb := "deleted"
	if dryRun {
		verb = "would be deleted"
	}
	if err := a.print(b.String()); err != nil {
		return err
	}
	note := fmt.Sprintf("%s %s", count(len(removed), "file"), verb)
	if left := len(paths) - len(removed); left > 0 {
		note += fmt.Sprintf(", %d left: under version control, or gone already", left)
	}
	a.tell(note + "\n")
	return nil
}

func (a *app) storeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "store",
		Short: "Look after the kept outputs: stats, prune, verify",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return &usageError{msg: "tugline store needs one of stats, prune, verify"}
		},
	}
	sub := func(name, short string, do func(context.Context, *store.Store) (string, error)) *cobra.Command {
		return &cobra.Command{Use: name, Short: short, Args: noArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			kept, err := a.store()
			if err == nil {
				err = kept.Create()
			}
			if err != nil {
				return err
			}
			text, err := do(cmd.Context(), kept)
			if err != nil {
				return err
			}
			return a.print(text)
		}}
	}
	cmd.AddCommand(
		sub("stats", "Tell how much is kept", func(_ context.Context, s *store.Store) (string, error) {
			st, err := s.Stats()
			return fmt.Sprintf("%s: %s, %s, %s\n", st.Folder, counted(st.Entries, "entry", "entries"), count(st.Objects, "object"), size(st.Bytes)), err
		}),
		sub("prune", "Drop what was used least recently, down to the limit", func(ctx context.Context, s *store.Store) (string, error) {
			limit := int64(storeLimit)
			if p, err := a.load(); err == nil && p.StoreLimit > 0 {
				limit = p.StoreLimit
			}
			st, err := s.Prune(ctx, limit)
			return fmt.Sprintf("dropped %s, %s, %s\n", counted(st.Entries, "entry", "entries"), count(st.Objects, "object"), size(st.Bytes)), err
		}),
		sub("verify", "Read all that is kept, and drop what is damaged", func(ctx context.Context, s *store.Store) (string, error) {
			well, st, err := s.Verify(ctx)
			return fmt.Sprintf("%s well, %d damaged and dropped\n", counted(well, "entry", "entries"), st.Entries+st.Objects), err
		}),
	)
	return cmd
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// size writes a number of bytes in the largest unit of which there is one: 1.4 GiB.
func size(bytes int64) string {
	for _, u := range []struct {
		unit units.Base2Bytes
		name string
	}{{units.GiB, "GiB"}, {units.MiB, "MiB"}, {units.KiB, "KiB"}} {
		if bytes >= int64(u.unit) {
			return fmt.Sprintf("%.1f %s", float64(bytes)/float64(u.unit), u.name)
		}
	}
	return fmt.Sprintf("%d B", bytes)
}
