package cache

import (
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
	"tugline/internal/store"
)

// place is a project of one task, t, with what is remembered of it.
type place struct {
	*testing.T
	top   string
	text  string
	env   []string
	asked map[string]bool // the tasks that are forced, or taken as unchanged, by option
}

const almanac = `[task.t]
reads = ['in/*.txt', '!in/not.txt']
writes = 'out/*'
reads_env = ['TIDE']
run = 'make it'
`

func newPlace(t *testing.T, text string) *place {
	p := &place{T: t, top: filepath.Join(t.TempDir(), "project"), text: text, env: []string{"TIDE=high", "OTHER=1"}, asked: map[string]bool{}}
	p.write("in/a.txt", "tides")
	p.write("in/b.txt", "lights")
	return p
}

func (p *place) write(name, text string) {
	p.Helper()
	path := filepath.Join(p.top, name)
	require.NoError(p, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(p, os.WriteFile(path, []byte(text), 0o644))
}

func (p *place) remove(name string) {
	p.Helper()
	require.NoError(p, os.RemoveAll(filepath.Join(p.top, name)))
}

// open returns the cache and the step, as a new call of Tugline has them.
func (p *place) open() (*Cache, *plan.Step) {
	p.Helper()
	parsed, err := project.Parse(filepath.Join(p.top, "tugline.toml"), "tugline.toml", []byte(p.text))
	require.NoError(p, err)
	pl, err := plan.New(parsed, plan.Request{Calls: []project.Call{{Name: "t"}}, Env: p.env, OS: "linux"})
	require.NoError(p, err)
	kept := store.At(filepath.Join(p.top, "..", "store"))
	require.NoError(p, kept.Create())
	ledger := history.At(p.top)
	require.NoError(p, ledger.Create())
	c := &Cache{
		Top: p.top, Ledger: ledger, Files: files.Open(p.top, ledger.Folder()), Store: kept, Run: "20261125-120000-1",
		World: fingerprint.World{Top: p.top, OS: "linux", Arch: "amd64", Hidden: func(s string) string { return s }},
		Force: map[*project.Task]bool{}, AsIs: map[*project.Task]bool{},
	}
	c.Files.Clock(ledger.Folder())
	task := parsed.Task("t")
	c.Force[task], c.AsIs[task] = p.asked["force"], p.asked["as-is"]
	return c, pl.Steps[0]
}

func (p *place) decide() Decision {
	p.Helper()
	c, s := p.open()
	d, err := c.Decide(p.Context(), s, s.Inputs(), false)
	require.NoError(p, err)
	return d
}

// makes goes through what is done with a step that runs, without a scheduler:
// its commands are run.
func (p *place) makes(run func()) Kept {
	p.Helper()
	c, s := p.open()
	inputs := s.Inputs()
	d, err := c.Decide(p.Context(), s, inputs, false)
	require.NoError(p, err)
	_, err = c.Begin(s, &d)
	require.NoError(p, err)
	run()
	kept, err := c.Keep(p.Context(), s, &d, Success{Inputs: inputs, Took: time.Second})
	require.NoError(p, err)
	require.NoError(p, c.Files.Save(c.Ledger.Folder()))
	return kept
}

func TestDecide(t *testing.T) {
	tests := map[string]struct {
		change func(p *place)
		want   Action
		why    string // the first reason; empty: there is none
	}{
		"nothing":                {func(*place) {}, UpToDate, ""},
		"an input":               {func(p *place) { p.write("in/a.txt", "ebb") }, ToRun, "in/a.txt changed"},
		"the time of an input":   {func(p *place) { p.write("in/a.txt", "tides") }, UpToDate, ""},
		"a new input":            {func(p *place) { p.write("in/c.txt", "buoys") }, ToRun, "in/c.txt is new"},
		"an input less":          {func(p *place) { p.remove("in/b.txt") }, ToRun, "in/b.txt is gone"},
		"what is excluded":       {func(p *place) { p.write("in/not.txt", "x") }, UpToDate, ""},
		"another file":           {func(p *place) { p.write("in/a.md", "x") }, UpToDate, ""},
		"the permission to run":  {func(p *place) { require.NoError(p, os.Chmod(filepath.Join(p.top, "in/a.txt"), 0o755)) }, ToRun, "in/a.txt changed"},
		"a task beside it":       {func(p *place) { p.text += "# as before\n[task.u]\nrun = 'x'\n" }, UpToDate, ""},
		"another command":        {func(p *place) { p.text = almanac[:len(almanac)-2] + " anew'\n" }, ToRun, "command changed"},
		"a tracked variable":     {func(p *place) { p.env[0] = "TIDE=low" }, ToRun, `TIDE is "low", it was "high"`},
		"another variable":       {func(p *place) { p.env[1] = "OTHER=2" }, UpToDate, ""},
		"an output, by hand":     {func(p *place) { p.write("out/page", "edited") }, ToRestore, "output out/page was changed"},
		"an output less":         {func(p *place) { p.remove("out") }, ToRestore, "output out/page is missing"},
		"no store, nor outputs":  {func(p *place) { p.remove("out"); p.remove("../store") }, ToRun, "output out/page is missing"},
		"forced":                 {func(p *place) { p.asked["force"] = true }, ToRun, "forced"},
		"as it is, whatever was": {func(p *place) { p.asked["as-is"] = true; p.write("in/a.txt", "ebb") }, UpToDate, "treated as unchanged, as requested"},
		"undone, and kept so": {func(p *place) {
			p.write("in/a.txt", "ebb")
			p.makes(func() { p.write("out/page", "of ebb") })
			p.write("in/a.txt", "tides")
		}, ToRestore, "in/a.txt changed"},
		"another checkout": {func(p *place) { p.remove(".tugline"); p.remove("out") }, ToRestore, "first run here"},
		"it was killed meanwhile": {func(p *place) {
			c, s := p.open()
			d := p.decide()
			_, err := c.Begin(s, &d)
			require.NoError(p, err)
		}, ToRun, "its last run did not succeed"},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t, almanac)
			assert.Equal(t, "first run here", p.decide().Reasons[0].Text)
			assert.Equal(t, Kept{}, p.makes(func() { p.write("out/page", "of tides") }))
			test.change(p)
			d := p.decide()
			assert.Equal(t, test.want, d.Action)
			if test.why == "" {
				assert.Empty(t, d.Reasons)
			} else if assert.NotEmpty(t, d.Reasons) {
				assert.Equal(t, test.why, d.Reasons[0].Text)
			}
		})
	}
}

func TestRestorePutsBackWhatWasKept(t *testing.T) {
	p := newPlace(t, almanac)
	p.makes(func() { p.write("out/page", "of tides") })
	p.remove("out/page")
	p.write("out/mine", "made by hand")
	c, s := p.open()
	d, err := c.Decide(t.Context(), s, s.Inputs(), false)
	require.NoError(t, err)
	require.Equal(t, ToRestore, d.Action)
	done, aside, err := c.Restore(t.Context(), s, &d, s.Inputs())
	require.NoError(t, err)
	assert.True(t, done)
	text, err := os.ReadFile(filepath.Join(p.top, "out/page"))
	require.NoError(t, err)
	assert.Equal(t, "of tides", string(text))
	assert.NoFileExists(t, filepath.Join(p.top, "out/mine"))
	text, err = os.ReadFile(filepath.Join(p.top, aside, "out/mine"))
	require.NoError(t, err)
	assert.Equal(t, "made by hand", string(text), "nobody's work is lost")
	assert.Equal(t, UpToDate, p.decide().Action)
}

// What it read while somebody wrote it is not known, so nothing is kept.
func TestKeepNothingOfInputsThatChangeMeanwhile(t *testing.T) {
	p := newPlace(t, almanac)
	kept := p.makes(func() { p.write("in/a.txt", "ebb"); p.write("out/page", "of which?") })
	assert.Equal(t, "in/a.txt", kept.Changed)
	assert.Equal(t, ToRun, p.decide().Action)
	stats, err := store.At(filepath.Join(p.top, "..", "store")).Stats()
	require.NoError(t, err)
	assert.Zero(t, stats.Entries)
}
