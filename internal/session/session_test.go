package session

import (
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/project"
	"tugline/internal/secret"
)

// opened is a session of its own project, with what it warned of.
type opened struct {
	*Session
	t    *testing.T
	runs int
	told []string
}

func open(t *testing.T, text string, vars ...string) *opened {
	t.Helper()
	dir := t.TempDir()
	path := filepath.Join(dir, project.FileName)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	p, err := project.Load(path, func(path string) string { return path })
	require.NoError(t, err)
	o := &opened{t: t}
	vars = append([]string{"PATH=" + os.Getenv("PATH"), "TUGLINE_STORE=" + filepath.Join(t.TempDir(), "store")}, vars...)
	o.Session = Open(p, p.File, Config{
		Vars: vars, From: dir, Run: NewRunName(), Grace: time.Second, Mask: &secret.Mask{},
		Shown: func(path string) string { return path }, Warn: func(text string) { o.told = append(o.told, text) },
	})
	t.Cleanup(o.Close)
	return o
}

func calls(names ...string) Request {
	r := Request{}
	for _, name := range names {
		r.Calls = append(r.Calls, project.Call{Name: name})
	}
	return r
}

// run runs a request as a run of its own, in any goroutine, and returns the states
// of its steps.
func (o *opened) run(r Request) map[string]engine.State {
	o.runs++
	o.cfg.Run = NewRunName() + string(rune('a'+o.runs))
	states := map[string]engine.State{}
	prepared, err := o.Prepare(o.t.Context(), r)
	if !assert.NoError(o.t, err) {
		return states
	}
	summary, err := o.Begin(prepared, Words{Request: []string{"t"}, Stood: o.Project.Folder}).Do(o.t.Context(), How{Sink: func(engine.Event) error { return nil }})
	assert.NoError(o.t, err)
	for _, result := range summary.Results {
		states[result.Step.Name] = result.State
	}
	return states
}

func (o *opened) actions(r Request) map[string]cache.Action {
	o.t.Helper()
	preview, err := o.Preview(o.t.Context(), r)
	require.NoError(o.t, err)
	actions := map[string]cache.Action{}
	for _, s := range preview.Steps {
		actions[s.Step.Name] = s.Action
	}
	return actions
}

const twoTasks = `
[env]
JOBS = { run = 'echo "$TUGLINE_JOBS"' }
[task.make]
writes = "made"
run = 'echo "$JOBS" >made'
[task.check]
reads = "made"
run = 'test -s made'
`

func TestASessionServesPreviewAndRunAlike(t *testing.T) {
	s := open(t, twoTasks)
	r := calls("check")
	assert.Equal(t, map[string]cache.Action{"make": cache.ToRun, "check": cache.ToRun}, s.actions(r))
	assert.Equal(t, map[string]engine.State{"make": engine.Ran, "check": engine.Ran}, s.run(r))
	again := open(t, twoTasks)
	assert.Equal(t, cache.ToRun, again.actions(r)["make"], "another project has records and, here, a store of its own")
	assert.Equal(t, map[string]cache.Action{"make": cache.UpToDate, "check": cache.UpToDate}, s.actions(r))
	force := r
	force.Force = true
	assert.Equal(t, map[string]cache.Action{"make": cache.UpToDate, "check": cache.ToRun}, s.actions(force))
	assert.Empty(t, s.told)
}

// Two sessions in one process know nothing of each other.
func TestSessionsLiveSideBySide(t *testing.T) {
	var wg sync.WaitGroup
	for range 2 {
		s := open(t, twoTasks)
		wg.Go(func() {
			for round := range 5 {
				want := map[string]engine.State{"make": engine.Unchanged, "check": engine.Unchanged}
				if round == 0 {
					want = map[string]engine.State{"make": engine.Ran, "check": engine.Ran}
				}
				s.Files().InvalidateAll() // as it is between the rounds of a watch
				assert.Equal(t, want, s.run(calls("check")))
			}
		})
	}
	wg.Wait()
}

func TestWhatCannotBeKeptIsAWarning(t *testing.T) {
	s := open(t, twoTasks, "TUGLINE_STORE=relative")
	require.NoError(t, os.WriteFile(filepath.Join(s.Project.Folder, ".tugline"), nil, 0o644))
	assert.Equal(t, engine.Ran, s.run(calls("check"))["make"])
	require.Len(t, s.told, 2)
	assert.Equal(t, "outputs are neither stored nor restored: TUGLINE_STORE must be an absolute path", s.told[0])
	assert.Contains(t, s.told[1], "this run is not recorded: ")

	_, err := s.Plan(t.Context(), Request{EnvFiles: []string{"/nowhere.env"}})
	var input *InputError
	require.ErrorAs(t, err, &input)
	assert.Equal(t, `the env file "/nowhere.env" does not exist`, input.Msg)
}
