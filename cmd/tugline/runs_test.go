//go:build unix

package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/history"
)

const trial = `
keep_runs = 4
[env]
KEY = { secret = true, default = "hush" }
[task.trial]
calls = ["server-up", "check", "publish"]
if_failed = ["keep-logs"]
finally = ["server-down"]
needs = ["build", "note"]
[task.build]
reads = ["source"]
writes = ["built"]
run = "cp source built; echo built >>log"
[task.note]
env.HOW = "quietly"
run = "echo note >>log"
[task.server-up]
run = "echo up >>log"
[task.check]
run = "echo check >>log; echo checking $KEY; cat fine"
[task.publish]
args.to = { default = "quay" }
run = 'echo "publish $to" >>log; echo "to $to"'
[task.keep-logs]
run = 'cp "$TUGLINE_FAILED_LOG" kept'
[task.server-down]
run = "echo down >>log"
[task.plain]
needs = ["build", "note", "check"]
run = "echo plain >>log"
[task.kill]
needs = ["build", "note"]
run = "echo about to hang; echo x >killable; sleep 60"
`

func tellTrial(t *testing.T) *story {
	s := tell(t, trial)
	s.write("source", "1\n")
	return s
}

// done returns what was done since the last call.
func (s *story) done() []string {
	text := s.read("log")
	s.write("log", "")
	return strings.Fields(text)
}

func TestEveryRunIsRemembered(t *testing.T) {
	s := tellTrial(t)
	assert.Equal(t, 2, s.tugline("runs", "latest").code)
	assert.Equal(t, "No runs.\n", s.tugline("runs").stdout)
	r := s.tugline("trial")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "To continue: tugline resume\n")
	assert.Contains(t, s.read("kept"), "checking •••\n", "if_failed sees the log")
	s.write("fine", "")
	require.Equal(t, 0, s.tugline("publish", "--to", "gull rock").code)

	var runs struct {
		Runs []struct {
			ID, State string
			Request   []string
			Counts    map[string]int
		}
	}
	require.NoError(t, json.Unmarshal([]byte(s.tugline("runs", "--json").stdout), &runs))
	require.Len(t, runs.Runs, 2)
	assert.Equal(t, []string{"publish", "--to", "gull rock"}, runs.Runs[0].Request)
	assert.Equal(t, "ran", runs.Runs[0].State)
	assert.Equal(t, "failed", runs.Runs[1].State)
	assert.Equal(t, map[string]int{"ran": 5, "failed": 1, "blocked": 1}, runs.Runs[1].Counts)
	var run struct {
		Steps []struct {
			Name, Task, State, Reason string
			ExitCode                  *int `json:"exit_code"`
			Attempts                  int
			CalledBy                  *string `json:"called_by"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(s.tugline("runs", runs.Runs[1].ID, "--json").stdout), &run))
	for _, step := range run.Steps {
		switch step.Name {
		case "check":
			assert.Equal(t, "failed exit code 1", step.State+" "+step.Reason)
			assert.Equal(t, 1, *step.ExitCode)
			assert.Equal(t, 1, step.Attempts)
		case "server-down":
			assert.Equal(t, "finally of trial", *step.CalledBy)
		case "publish":
			assert.Nil(t, step.ExitCode)
		}
	}
	assert.Len(t, run.Steps, 7)
	s.recordedGraph(runs.Runs[1].ID)
	table := s.tugline("runs", "latest").stdout
	assert.Regexp(t, `ran +publish --to 'gull rock' +\+0\.`, table)
	assert.Equal(t, 1, strings.Count(s.tugline("runs", "--failed").stdout, "\n")-1)
	assert.Equal(t, 1, strings.Count(s.tugline("runs", "--task", "check").stdout, "\n")-1)
	assert.Equal(t, 2, strings.Count(s.tugline("runs", "--since", "1h").stdout, "\n")-1)
	assert.Equal(t, "No runs.\n", s.tugline("runs", "--since", "2199-01-01").stdout)
	assert.Equal(t, 2, s.tugline("runs", "--since", "yesterday").code)
	assert.Regexp(t, `publish +1 +0\.\d\ds +0\.\d\ds +0\.\d\ds +0% +0 *\n`, s.tugline("runs", "--times").stdout)

	assert.Contains(t, s.tugline("log", "check").stdout, "checking •••\ncat: ")
	assert.Equal(t, "to gull rock\n", s.tugline("log", "publish").stdout)
	assert.Equal(t, "to gull rock\n", s.tugline("log", "publish", "--to", "gull rock").stdout)
	assert.Equal(t, 2, s.tugline("log", "publish", "--to", "nowhere").code)
	assert.Equal(t, 2, s.tugline("log", "check", "--run", "latest").code)
	secrets, err := filepath.Glob(filepath.Join(s.dir, ".tugline/runs/*/*"))
	require.NoError(t, err)
	for _, path := range secrets {
		text, _ := os.ReadFile(path)
		assert.NotContains(t, string(text), "hush")
	}
	for range 4 {
		s.tugline("note")
	}
	assert.Equal(t, 4, strings.Count(s.tugline("runs").stdout, "\n")-1, "keep_runs")
}

// recordedGraph looks at what the record of a run of the trial tells of its graph.
func (s *story) recordedGraph(id string) {
	s.t.Helper()
	var run history.Run
	require.NoError(s.t, json.Unmarshal([]byte(s.tugline("runs", id, "--json").stdout), &run))
	needs, steps := map[int][]int{}, map[string]history.RunStep{}
	for _, g := range run.Groups {
		needs[g.Index] = g.Needs
	}
	for _, step := range run.Steps {
		needs[step.Index], steps[step.Name] = step.Needs, step
	}
	var waits func(at, other int) bool
	waits = func(at, other int) bool {
		return slices.ContainsFunc(needs[at], func(need int) bool { return need == other || waits(need, other) })
	}
	assert.True(s.t, waits(steps["check"].Index, steps["build"].Index), "through the groups between them")
	assert.True(s.t, waits(steps["check"].Index, steps["server-up"].Index))
	assert.False(s.t, waits(steps["build"].Index, steps["note"].Index))
	assert.Equal(s.t, &history.Place{File: "tugline.toml", Line: 20, Column: 46}, steps["check"].Place)
	assert.Nil(s.t, steps["build"].Place)
	assert.Equal(s.t, 1, *steps["check"].Slot)
	assert.Nil(s.t, steps["publish"].Slot, "it was blocked")
}

func TestGoingOnWithARun(t *testing.T) {
	s := tellTrial(t)
	assert.Contains(t, s.tugline("resume").stderr, "no run yet")
	require.Equal(t, 1, s.tugline("plain").code)
	assert.ElementsMatch(t, []string{"built", "note", "check"}, s.done())
	r := s.tugline("resume")
	assert.Equal(t, 1, r.code)
	assert.Equal(t, []string{"check"}, s.done(), "also note, which declares nothing, is not done again")
	assert.Regexp(t, `unchanged +note +finished in run \d+-\d+-\w+\n`, r.stdout)
	s.write("fine", "")
	assert.Regexp(t, `unchanged +note +finished in run`, s.tugline("resume", "-n").stdout)
	assert.Equal(t, 0, s.tugline("resume").code)
	assert.Equal(t, []string{"check", "plain"}, s.done())
	r = s.tugline("resume")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "nothing to resume")
	require.Equal(t, 0, s.tugline("note").code)
	s.done()
}

func TestGoingOnSeesWhatChanged(t *testing.T) {
	s := tellTrial(t)
	require.Equal(t, 1, s.tugline("plain").code)
	s.done()
	s.write("fine", "")
	s.write("source", "2\n")
	s.write("tugline.toml", strings.Replace(s.read("tugline.toml"), "echo note >>log", "echo note >>log; true", 1))
	r := s.tugline("resume")
	assert.Equal(t, 0, r.code, r.stderr)
	assert.Regexp(t, `ran +note +\d\.\d\ds +changed since run \d+-\d+-\w+`, r.stdout)
	assert.ElementsMatch(t, []string{"built", "note", "check", "plain"}, s.done())
}

func TestGoingOnAfterFinallyStartsFromTheFirstCall(t *testing.T) {
	s := tellTrial(t)
	require.Equal(t, 1, s.tugline("trial").code)
	first := s.done()
	assert.ElementsMatch(t, []string{"built", "note", "up", "check", "down"}, first)
	assert.Equal(t, []string{"up", "check", "down"}, first[2:])
	s.write("fine", "")
	r := s.tugline("resume")
	assert.Equal(t, 0, r.code, r.stderr)
	assert.Equal(t, []string{"up", "check", "publish", "quay", "down"}, s.done())
}

func TestGoingOnAfterAnEndWithoutAWord(t *testing.T) {
	for _, how := range []string{"killed", "interrupted", "half a record"} {
		t.Run(how, func(t *testing.T) {
			s := tellTrial(t)
			cmd := s.command("kill")
			require.NoError(t, cmd.Start())
			s.waitForFile("killable")
			assert.Regexp(t, `running +kill +`, s.tugline("runs", "latest").stdout)
			assert.Contains(t, s.tugline("resume").stderr, "is still running")
			signal := syscall.SIGKILL
			if how == "interrupted" {
				signal = syscall.SIGINT
			}
			require.NoError(t, cmd.Process.Signal(signal))
			cmd.Wait()
			if how == "half a record" {
				found, err := filepath.Glob(filepath.Join(s.dir, ".tugline/runs/*/run.json"))
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(found[0], nil, 0o644))
				events := filepath.Join(filepath.Dir(found[0]), "events.ndjson")
				text, err := os.ReadFile(events)
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(events, text[:len(text)-20], 0o644))
			}
			shown := s.tugline("runs", "latest").stdout
			assert.Regexp(t, `^\S+  stopped  kill\n`, shown)
			if how != "half a record" {
				assert.Equal(t, "about to hang\n", s.tugline("log", "kill").stdout)
			}
			assert.ElementsMatch(t, []string{"built", "note"}, s.done())
			s.write("tugline.toml", strings.Replace(s.read("tugline.toml"), "echo about to hang; echo x >killable; sleep 60", "echo gone on >>log", 1))
			r := s.tugline("resume")
			assert.Equal(t, 0, r.code, r.stderr)
			assert.Equal(t, []string{"gone", "on"}, s.done())
			assert.True(t, regexp.MustCompile(`unchanged +note +finished in run`).MatchString(r.stdout), r.stdout)
		})
	}
}

// What takes longer than usual is marked, and how long tasks take can be seen over time.
func TestWhatTakesLongerThanUsual(t *testing.T) {
	s := tell(t, "[task.t]\nrun = 'test ! -e slow || sleep 1.5'\n")
	for range 3 {
		require.Equal(t, 0, s.tugline("t").code)
	}
	s.write("slow", "")
	assert.Regexp(t, `slower than usual: t, \d\S+ in place of \d\S+\n`, s.tugline("t").stderr)
	assert.Regexp(t, `ran +t .* slower than usual: \d`, s.tugline("runs", "latest").stdout)
	assert.Regexp(t, `t +4 .* ▁▁▁█\n`, s.tugline("runs", "--times").stdout)
	assert.Contains(t, s.tugline("runs", "--times", "--json").stdout, `"p90_ms"`)
}

// A run can be told as a page and as JUnit XML, also later.
func TestReport(t *testing.T) {
	s := tell(t, "title = 'Almanac'\n[task.good]\nrun = 'echo fine'\n[task.bad]\nrun = 'echo oh >&2; exit 3'\n[task.both]\nneeds = ['good', 'bad']\n")
	require.Equal(t, 1, s.tugline("-j", "1", "--after-failure", "continue", "--junit", "live.xml", "both").code)
	live := s.read("live.xml")
	assert.Contains(t, live, `<testsuite name="Almanac" tests="2" failures="1" errors="0" skipped="0"`)
	assert.Contains(t, live, `<failure message="tugline.toml:5:21: exit code 3" type="failed">oh`)
	assert.Equal(t, live, s.tugline("report", "--junit", "-").stdout)
	r := s.tugline("report", "-o", "page.html")
	assert.Equal(t, result{0, "", "written to page.html\n"}, r)
	assert.Contains(t, s.read("page.html"), "tugline.toml:5:21, exit code 3")
	r = s.tugline("report")
	assert.Regexp(t, `^written to report-\d+-\d+-\w+\.html\n$`, r.stderr)
	assert.Contains(t, s.tugline("report", "-o", "no/such/folder.html").stderr, "cannot be written")
	assert.Equal(t, 2, s.tugline("report", "nope").code)
	assert.Contains(t, s.tugline("report", "-o", "/dev/stdout").stdout, "<!doctype html>", "what is no file is written into")
}
