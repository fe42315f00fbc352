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
	t    *testing.T
	top  string
	text string
	ran  []string // the scripts that ran
	exec func(script string) error
}

func (r *remembered) write(name, text string) {
	r.t.Helper()
	path := filepath.Join(r.top, name)
	require.NoError(r.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(r.t, os.WriteFile(path, []byte(text), 0o644))
}

// planned plans a task, with what is remembered, as one call of Tugline does.
func (r *remembered) planned(task string) (*plan.Plan, *Memory) {
	r.t.Helper()
	p, err := project.Parse(filepath.Join(r.top, "tugline.toml"), "tugline.toml", []byte(r.text))
	require.NoError(r.t, err)
	pl, err := plan.New(p, plan.Request{Calls: []project.Call{{Name: task}}, OS: "linux"})
	require.NoError(r.t, err)
	kept := store.At(filepath.Join(r.top, "..", "store"))
	require.NoError(r.t, kept.Create())
	ledger := history.At(r.top)
	require.NoError(r.t, ledger.Create())
	memory := &Memory{
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
	scripts, err := Prepare(pl)
	require.NoError(r.t, err)
	r.ran = nil
	summary, err := Run(context.Background(), pl, scripts, Config{Jobs: 1, Memory: memory, Exec: func(_ context.Context, cmd shell.Command) error {
		r.ran = append(r.ran, cmd.Script)
		return r.exec(cmd.Script)
	}, Now: func() time.Time { return time.Unix(0, 0) }})
	require.NoError(r.t, err)
	require.NoError(r.t, memory.Files.Save(memory.Ledger.Folder()))
	states := map[string]State{}
	for _, result := range summary.Results {
		states[result.Step.Name] = result.State
	}
	return states
}

func newRemembered(t *testing.T, text string) *remembered {
	t.Helper()
	r := &remembered{t: t, top: filepath.Join(t.TempDir(), "project"), text: text}
	require.NoError(t, os.Mkdir(r.top, 0o755))
	return r
}

// A file that changes while a task runs counts as it was before: the task may
// have read either.
func TestAFileThatChangesDuringTheRunIsReadAgain(t *testing.T) {
	r := newRemembered(t, "[task.t]\nreads = 'in'\nwrites = 'out'\nrun = 'x'\n")
	r.write("in", "one")
	r.exec = func(string) error {
		r.write("out", "made")
		r.write("in", "two")
		return nil
	}
	assert.Equal(t, map[string]State{"t": Ran}, r.run("t"))
	assert.Equal(t, map[string]State{"t": Ran}, r.run("t"))
	assert.Equal(t, map[string]State{"t": Unchanged}, r.run("t"))
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
