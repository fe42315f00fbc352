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

	"tugline/internal/cache"
	"tugline/internal/history"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/session"
	"tugline/internal/store"
	"tugline/internal/vcs"
)

func (a *app) whoCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "who FILE",
		Short: "Show which task makes a file, which tasks read it, and when it was last made",
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
	req, err := a.planRequest(ctx, &runOptions{})
	if err != nil {
		return who, err
	}
	makes, reads := plan.Mentions(p, req, who.Path)
	records := a.session.Ledger.All()
	slices.SortFunc(records, func(x, y history.Record) int { return y.Finished.Compare(x.Finished) })
	who.MadeBy = whoTasks(makes, records, func(r history.Record) bool { return holds(r, who.Path, true) })
	who.ReadBy = whoTasks(reads, records, func(r history.Record) bool { return holds(r, who.Path, false) })
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
			t := output.WhoTask{Name: r.Call, When: &r.Finished}
			if r.Run != "" {
				t.Run = &r.Run
			}
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

// sweepOptions are the options of sweep.
type sweepOptions struct {
	dryRun, stale, edited bool
}

func (a *app) sweepCommand() *cobra.Command {
	o := &sweepOptions{}
	cmd := a.onCalls("sweep [TASK…]", &runOptions{}, func(ctx context.Context, p *project.Project, calls []project.Call) error {
		made, err := a.made(ctx, p, calls, o.stale)
		if err != nil {
			return err
		}
		return a.sweep(ctx, p, made, o)
	})
	cmd.Short = "Delete unmodified outputs of earlier runs, never files under version control"
	cmd.Flags().SortFlags = false
	cmd.Flags().BoolVarP(&o.dryRun, "dry-run", "n", false, "show what would be deleted without deleting it")
	cmd.Flags().BoolVar(&o.stale, "stale", false, "delete outputs of earlier runs that are no longer made")
	cmd.Flags().BoolVar(&o.edited, "edited", false, "also delete outputs that were edited since")
	return cmd
}

// made returns what runs have made: of calls, or of all tasks; with stale, what
// no task makes any more. A call without arguments means all calls of its task.
func (a *app) made(ctx context.Context, p *project.Project, calls []project.Call, stale bool) ([]cache.Made, error) {
	wanted := func(r *history.Record) bool {
		if len(calls) == 0 {
			return slices.ContainsFunc(p.Tasks, func(t *project.Task) bool { return t.Name == r.Task })
		}
		return slices.ContainsFunc(calls, func(c project.Call) bool { return recordOf(r, a.base.Task(c.Name), c) })
	}
	if !stale {
		return a.session.Cache(session.Request{}).Made(wanted)
	}
	found, err := a.stale(ctx, p)
	return slices.DeleteFunc(found, func(made cache.Made) bool { return len(calls) > 0 && !wanted(&made.Record) }), err
}

// recordOf reports whether a record is that of a call of t with the arguments of
// c, whatever the others were.
func recordOf(r *history.Record, t *project.Task, c project.Call) bool {
	if r.Task != t.Name {
		return false
	}
	values := map[string]string{}
	for _, item := range r.Fingerprint.Items {
		if item.Kind == "argument" {
			values[item.Name] = strings.TrimPrefix(item.Value, "=")
		}
	}
	for _, given := range c.Args {
		value, _ := given.Value.Fixed()
		if values[t.Arg(given.Name).Variable()] != value {
			return false
		}
	}
	return true
}

// stale returns what earlier runs made and no task makes any more.
func (a *app) stale(ctx context.Context, p *project.Project) ([]cache.Made, error) {
	req, err := a.planRequest(ctx, &runOptions{})
	if err != nil {
		return nil, err
	}
	return a.session.Cache(session.Request{}).Stale(plan.Written(p, req))
}

// sweep deletes what was made, but for what is under version control, and tells
// of each file.
func (a *app) sweep(ctx context.Context, p *project.Project, made []cache.Made, o *sweepOptions) error {
	kept, err := vcs.Tracked(ctx, p.Folder)
	if errors.Is(err, vcs.ErrUnknown) {
		return &usageError{msg: err.Error(), hint: "nothing was deleted"}
	}
	if err != nil {
		return err
	}
	var paths, edited []string
	for _, m := range made {
		paths, edited = append(paths, m.Paths...), append(edited, m.Edited...)
	}
	if o.edited {
		paths, edited = append(paths, edited...), nil
	}
	slices.Sort(paths)
	paths = slices.Compact(paths)
	slices.Sort(edited)
	edited = slices.DeleteFunc(slices.Compact(edited), func(path string) bool { return slices.Contains(paths, path) })
	all := len(paths)
	paths = slices.DeleteFunc(paths, func(path string) bool { return kept[path] })
	left := leftBehind{tracked: all - len(paths), edited: len(edited)}
	removed := paths
	var failed error
	if !o.dryRun {
		c := a.session.Cache(session.Request{})
		removed, failed = c.Sweep(paths)
		failed = errors.Join(failed, c.Forget(made, removed))
	}
	var b strings.Builder
	for _, path := range removed {
		if output.IsTerminal(a.env.Stdout) {
			path = output.Line(path)
		}
		b.WriteString(path + "\n")
	}
	verb := "deleted"
	if o.dryRun {
		verb = "would be deleted"
	}
	if err := a.print(b.String()); err != nil {
		return err
	}
	a.tell(fmt.Sprintf("%s %s%s\n", count(len(removed), "file"), verb, left))
	return failed
}

// leftBehind counts outputs that a sweep leaves.
type leftBehind struct{ tracked, edited int }

func (l leftBehind) String() string {
	text := ""
	if l.tracked > 0 {
		text += fmt.Sprintf(", %d under version control left", l.tracked)
	}
	if l.edited > 0 {
		text += fmt.Sprintf(", %d edited since left: --edited deletes them, too", l.edited)
	}
	return text
}

func (a *app) storeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "store",
		Short: "Manage the store of outputs: stats, prune, verify",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return &usageError{msg: "tugline store needs one of stats, prune, verify"}
		},
	}
	sub := func(name, short string, do func(context.Context, *store.Store) (string, error)) *cobra.Command {
		return &cobra.Command{Use: name, Short: short, Args: noArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			kept, err := session.Store(a.env.Vars)
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
		sub("stats", "Show the size of the store", func(_ context.Context, s *store.Store) (string, error) {
			st, err := s.Stats()
			return fmt.Sprintf("%s: %s, %s, %s\n", st.Folder, counted(st.Entries, "entry", "entries"), count(st.Objects, "object"), size(st.Bytes)), err
		}),
		sub("prune", "Remove the least recently used outputs, down to the limit", func(ctx context.Context, s *store.Store) (string, error) {
			limit := int64(session.StoreLimit)
			if p, err := a.load(); err == nil && p.StoreLimit > 0 {
				limit = p.StoreLimit
			}
			st, err := s.Prune(ctx, limit)
			return fmt.Sprintf("removed %s, %s, %s\n", counted(st.Entries, "entry", "entries"), count(st.Objects, "object"), size(st.Bytes)), err
		}),
		sub("verify", "Check all stored outputs and remove damaged ones", func(ctx context.Context, s *store.Store) (string, error) {
			well, st, err := s.Verify(ctx)
			return fmt.Sprintf("%s good, %d damaged and removed\n", counted(well, "entry", "entries"), st.Entries+st.Objects), err
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
