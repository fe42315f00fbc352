package history

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func begin(t *testing.T, l *Ledger, id string) *Recorder {
	t.Helper()
	r, err := l.Record(Run{ID: id, Started: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Request: []string{"build"}, Folder: "."})
	require.NoError(t, err)
	return r
}

func started(name string, second int) RunEvent {
	return RunEvent{Time: time.Date(2026, 11, 23, 12, 0, second, 0, time.UTC), Kind: "step.started", Step: &name, Task: &name}
}

func ended(name, state string, second int) RunEvent {
	e := started(name, second)
	e.Kind, e.Result = "step.finished", &RunStep{Name: name, Task: name, State: state, Ms: 1000, Attempts: 1, Sum: "f00d"}
	return e
}

func TestARunIsReadAsItEnded(t *testing.T) {
	l := At(t.TempDir())
	require.NoError(t, l.Create())
	r := begin(t, l, "20261123-120000-00000")
	require.NoError(t, r.Event(ended("clean", "ran", 1)))
	require.NoError(t, r.Log(3, "page --port 'a/b'", []byte("one\n")))
	require.NoError(t, r.Log(3, "page --port 'a/b'", []byte("two\n")))
	assert.Equal(t, "logs/0004-page_--port__a_b_.log", *r.EndLog(3, "page --port 'a/b'"))
	assert.Nil(t, r.EndLog(4, "silent"))
	running, err := l.ReadRun("20261123-120000-00000")
	require.NoError(t, err)
	assert.Equal(t, RunRunning, running.State)
	require.NoError(t, r.End(RunFailed, 3*time.Second, map[string]int{"ran": 1}))

	run, err := l.ReadRun("20261123-120000-00000")
	require.NoError(t, err)
	assert.Equal(t, Run{
		Version: 2, ID: "20261123-120000-00000", Started: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Ms: 3000, State: "failed",
		Request: []string{"build"}, Counts: map[string]int{"ran": 1}, Folder: ".",
		Steps:  []RunStep{{Needs: []int{}, Name: "clean", Task: "clean", State: "ran", Ms: 1000, Attempts: 1, Sum: "f00d"}},
		Groups: []RunGroup{},
	}, run)
	text, err := os.ReadFile(filepath.Join(l.RunFolder(run.ID), "logs/0004-page_--port__a_b_.log"))
	require.NoError(t, err)
	assert.Equal(t, "one\ntwo\n", string(text))
	_, err = l.ReadRun("../records")
	assert.ErrorIs(t, err, ErrNoRun)
	_, err = l.ReadRun("20261123-120000-fffff")
	assert.ErrorIs(t, err, ErrNoRun)
}

func TestARunThatDidNotEndReadsAsStopped(t *testing.T) {
	for _, damage := range []string{"none", "half an event", "no run.json", "half a run.json"} {
		t.Run(damage, func(t *testing.T) {
			l := At(t.TempDir())
			require.NoError(t, l.Create())
			r := begin(t, l, "20261123-120000-00000")
			for _, e := range []RunEvent{started("clean", 0), ended("clean", "ran", 1), started("page", 1), started("chart", 2), ended("chart", "failed", 4)} {
				require.NoError(t, r.Event(e))
			}
			require.NoError(t, r.Flush())
			r.lock.Unlock() // as when the process is gone
			folder := l.RunFolder("20261123-120000-00000")
			switch damage {
			case "half an event":
				file, err := os.OpenFile(filepath.Join(folder, "events.ndjson"), os.O_APPEND|os.O_WRONLY, 0)
				require.NoError(t, err)
				file.WriteString(`{"time":"2026-11-23T12:00:09Z","kind":"step.fin`)
				file.Close()
			case "no run.json":
				require.NoError(t, os.Remove(filepath.Join(folder, "run.json")))
			case "half a run.json":
				require.NoError(t, os.WriteFile(filepath.Join(folder, "run.json"), []byte(`{"version":1,"id":`), 0o644))
			}
			run, err := l.ReadRun("20261123-120000-00000")
			require.NoError(t, err)
			assert.Equal(t, RunStopped, run.State)
			assert.Equal(t, []string{"build"}, run.Request)
			assert.Equal(t, int64(4000), run.Ms)
			assert.Equal(t, map[string]int{"ran": 1, "failed": 1, "stopped": 1}, run.Counts)
			require.Len(t, run.Steps, 3)
			assert.Equal(t, RunStep{Needs: []int{}, Name: "page", Task: "page", State: "stopped", Started: time.Date(2026, 11, 23, 12, 0, 1, 0, time.UTC), Ms: 3000, Attempts: 1, Reason: "Tugline was killed"}, run.Steps[2])
		})
	}
}

func TestOldRunsGoButNotThoseThatGoOn(t *testing.T) {
	l := At(t.TempDir())
	require.NoError(t, l.Create())
	oldest := begin(t, l, "1")
	for _, id := range []string{"2", "3", "4"} {
		require.NoError(t, begin(t, l, id).End(RunRan, 0, nil))
	}
	require.NoError(t, l.PruneRuns(2))
	assert.Equal(t, []string{"4", "3", "1"}, l.Runs())
	require.NoError(t, oldest.End(RunRan, 0, nil))
	require.NoError(t, l.PruneRuns(2))
	assert.Equal(t, []string{"4", "3"}, l.Runs())
}

func TestTimes(t *testing.T) {
	step := func(task, state string, ms int64) RunStep { return RunStep{Task: task, State: state, Ms: ms} }
	runs := []Run{
		{Steps: []RunStep{step("page", "ran", 100), step("page", "ran", 300), step("clean", "unchanged", 0)}},
		{Steps: []RunStep{step("page", "failed", 9000), step("page", "restored", 1), step("page", "ran", 200), step("page", "ran", 1000)}},
	}
	assert.Equal(t, []Times{
		{Task: "clean", Unchanged: 1},
		{Task: "page", Ran: 4, Unchanged: 1, Failed: 1, Median: 250 * time.Millisecond, Low: 100 * time.Millisecond, High: time.Second, P90: time.Second,
			Trend: []time.Duration{200 * time.Millisecond, time.Second, 100 * time.Millisecond, 300 * time.Millisecond}},
	}, TimesOf(runs))

	for _, c := range []struct {
		took, usual time.Duration
		slow        bool
	}{{time.Second, 0, false}, {1400 * time.Millisecond, time.Second, false}, {1600 * time.Millisecond, time.Second, true}, {30 * time.Millisecond, 10 * time.Millisecond, false}} {
		assert.Equal(t, c.slow, IsSlow(c.took, c.usual), "%v of %v", c.took, c.usual)
	}

	l := At(t.TempDir())
	require.NoError(t, l.Create())
	assert.Empty(t, l.Usual())
	odd := "page --port 'gull\nrock'"
	require.NoError(t, l.KeepUsual(map[string]time.Duration{odd: time.Second, "quick": time.Microsecond}))
	require.NoError(t, l.KeepUsual(map[string]time.Duration{odd: 3 * time.Second}))
	assert.Equal(t, map[string]time.Duration{odd: 2 * time.Second, "quick": time.Millisecond}, l.Usual())
	require.NoError(t, os.WriteFile(filepath.Join(l.Folder(), "times"), []byte("nonsense\n12 \"a\"\n"), 0o644))
	assert.Equal(t, map[string]time.Duration{"a": 12 * time.Millisecond}, l.Usual())
}

func TestALogIsFoundByTheWholeNameOfItsStep(t *testing.T) {
	l := newLedger(t)
	r := begin(t, l, "r")
	require.NoError(t, r.Log(1, "front-page", []byte("front")))
	assert.Empty(t, l.FindLog("r", "page"))
	require.NoError(t, r.Log(10, "page", []byte("page")))
	assert.Equal(t, filepath.Join(l.RunFolder("r"), "logs", "0011-page.log"), l.FindLog("r", "page"))
}

// All rounds of a watch count once.
func TestRoundsCountOnce(t *testing.T) {
	l := At(t.TempDir())
	require.NoError(t, l.Create())
	first := RoundName("20260102-100000-1a", "20260102-100000-1a")
	names := []string{"20260101-100000-1a", first, RoundName("20260103-100000-1a", first), RoundName("20260104-100000-1a", first), "20260105-100000-1a"}
	for _, name := range names {
		r, err := l.Record(Run{ID: name})
		require.NoError(t, err)
		require.NoError(t, r.End(RunRan, 0, nil))
	}
	require.NoError(t, l.PruneRuns(2))
	assert.Len(t, l.Runs(), 4)
	require.NoError(t, l.PruneRuns(1))
	assert.Equal(t, []string{"20260105-100000-1a"}, l.Runs())
}
