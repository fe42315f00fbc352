package engine

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/cache"
	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/shell"
	"tugline/internal/store"
)

// remembered is a project in a folder whose scripts are a function.
type remembered struct {
	t       *testing.T
	top     string
	text    string
	ran     []string          // the scripts that ran
	reasons map[string]string // of the last run, by step
	exec    func(script string) error
}

func (r *remembered) write(name, text string) {
	r.t.Helper()
	path := filepath.Join(r.top, name)
	require.NoError(r.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(r.t, os.WriteFile(path, []byte(text), 0o644))
}

// planned plans a task, with what is remembered, as one call of Tugline does.
func (r *remembered) planned(task string) (*plan.Plan, *cache.Cache) {
	r.t.Helper()
	p, err := project.Parse(filepath.Join(r.top, "tugline.toml"), "tugline.toml", []byte(r.text))
	require.NoError(r.t, err)
	pl, err := plan.New(p, plan.Request{Calls: []project.Call{{Name: task}}, OS: "linux"})
	require.NoError(r.t, err)
	kept := store.At(filepath.Join(r.top, "..", "store"))
	require.NoError(r.t, kept.Create())
	ledger := history.At(r.top)
	require.NoError(r.t, ledger.Create())
	memory := &cache.Cache{
		Top: r.top, Ledger: ledger, Files: files.Open(r.top, ledger.Folder()), Store: kept,
		World: fingerprint.World{Top: r.top, OS: "linux", Arch: "amd64", Hidden: func(s string) string { return s }},
	}
	memory.Files.Clock(ledger.Folder())
	return pl, memory
}

// run runs a task, as one call of Tugline does, and returns the states.
func (r *remembered) run(task string) map[string]State {
	r.t.Helper()
	pl, memory := r.planned(task)
	states := map[string]State{}
	r.reasons = map[string]string{}
	for _, result := range r.runPlan(pl, memory).Results {
		r.reasons[result.Step.Name] = result.Reason
		states[result.Step.Name] = result.State
	}
	return states
}

func (r *remembered) runPlan(pl *plan.Plan, memory *cache.Cache) Summary {
	r.t.Helper()
	scripts, err := Prepare(pl)
	require.NoError(r.t, err)
	r.ran = nil
	exec := func(_ context.Context, cmd shell.Command) error {
		r.ran = append(r.ran, cmd.Script)
		return r.exec(cmd.Script)
	}
	summary, err := Run(context.Background(), pl, scripts, Config{
		Jobs: 1, Cache: memory, Processes: Processes{Exec: exec}, Now: func() time.Time { return time.Unix(0, 0) },
	})
	require.NoError(r.t, err)
	require.NoError(r.t, memory.Files.Save(memory.Ledger.Folder()))
	return summary
}

func newRemembered(t *testing.T, text string) *remembered {
	t.Helper()
	r := &remembered{t: t, top: filepath.Join(t.TempDir(), "project"), text: text}
	require.NoError(t, os.Mkdir(r.top, 0o755))
	return r
}

// What a task read is not known if it changed while the task ran.
func TestAnInputThatChangesDuringTheRun(t *testing.T) {
	for name, test := range map[string]struct {
		during func(r *remembered)
		want   string // what changed; empty: nothing
	}{
		"nothing":               {func(*remembered) {}, ""},
		"another content":       {func(r *remembered) { r.write("in/a", "two") }, "in/a"},
		"put back meanwhile":    {func(r *remembered) { r.write("in/a", "two"); r.write("in/a", "one") }, "in/a"},
		"a new file":            {func(r *remembered) { r.write("in/new", "two") }, "in/new"},
		"a file is gone":        {func(r *remembered) { require.NoError(r.t, os.Remove(filepath.Join(r.top, "in/a"))) }, "in/a"},
		"two of them":           {func(r *remembered) { r.write("in/a", "two"); r.write("in/b", "two") }, "in/a, and 1 more,"},
		"what it writes, too":   {func(r *remembered) { r.write("in/out", "made") }, ""},
		"what it does not read": {func(r *remembered) { r.write("other", "two") }, ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := newRemembered(t, "[task.t]\nreads = 'in/*'\nwrites = ['out', 'in/out*']\nrun = 'x'\n")
			r.write("in/a", "one")
			r.write("in/b", "one")
			r.write("in/out", "old")
			later(t, r.top)
			change := test.during
			r.exec = func(string) error {
				r.write("out", "made")
				change(r)
				return nil
			}
			assert.Equal(t, map[string]State{"t": Ran}, r.run("t"))
			if test.want == "" {
				assert.Equal(t, "first run here", r.reasons["t"])
				assert.Equal(t, map[string]State{"t": Unchanged}, r.run("t"))
				return
			}
			assert.Equal(t, "but "+test.want+" changed meanwhile: not recorded, it runs again next time", r.reasons["t"])
			_, memory := r.planned("t")
			assert.Empty(t, memory.Ledger.All(), "nothing is recorded")
			stats, err := memory.Store.Stats()
			require.NoError(t, err)
			assert.Zero(t, stats.Entries, "nor kept")
			r.write("in/a", "one")
			change = func(*remembered) {}
			assert.Equal(t, map[string]State{"t": Ran}, r.run("t"))
			assert.Equal(t, map[string]State{"t": Unchanged}, r.run("t"))
		})
	}
}

// later returns when the clock of the file system has moved on.
func later(t *testing.T, dir string) {
	t.Helper()
	clock := filepath.Join(dir, "moment")
	changed := func() time.Time {
		require.NoError(t, os.WriteFile(clock, nil, 0o644))
		info, err := os.Stat(clock)
		require.NoError(t, err)
		return info.ModTime()
	}
	for start := changed(); changed().Equal(start); {
	}
}

// What a task writes without saying so is seen by those that need it.
func TestWhatIsWrittenUndeclaredIsSeenInTheSameRun(t *testing.T) {
	r := newRemembered(t, "[task.t]\nneeds = 'u'\nreads = 'x'\nrun = 'reader'\n[task.u]\nneeds = 'v'\nrun = 'writer'\n[task.v]\nreads = 'x'\nrun = 'first reader'\n")
	r.write("x", "0")
	n := '0'
	r.exec = func(script string) error {
		if script == "writer" {
			n++
			r.write("x", string(n))
		}
		return nil
	}
	r.run("t")
	assert.Equal(t, map[string]State{"t": Ran, "u": Ran, "v": Ran}, r.run("t"))
	assert.Equal(t, []string{"first reader", "writer", "reader"}, r.ran)
}

// The same state that just failed is not taken from the store.
func TestAFailureIsNotHiddenByAnOlderSuccess(t *testing.T) {
	r := newRemembered(t, "[task.t]\nreads = 'in'\nwrites = 'out'\nalways = true\nrun = 'x'\n")
	r.write("in", "one")
	r.exec = func(string) error { r.write("out", "made"); return nil }
	r.run("t")
	r.exec = func(string) error { return errors.New("the service is away") }
	assert.Equal(t, map[string]State{"t": Failed}, r.run("t"))
	r.text = "[task.t]\nreads = 'in'\nwrites = 'out'\nrun = 'x'\n"
	assert.Equal(t, map[string]State{"t": Failed}, r.run("t"))
	assert.Equal(t, []string{"x"}, r.ran)
}
