//go:build unix

package main

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// held has tasks that wait for something before they start.
const held = `
[task.late]
hold_until = { file = "go", every = "10ms" }
reads = "in"
writes = "late.out"
run = "cat in >late.out"
[task.opens]
run = "while [ ! -e release ]; do sleep 0.01; done; echo >go"
[task.both]
needs = ["late", "opens"]
[task.asks]
hold_until = { run = 'echo "not yet" >&2; exit 3', every = "10ms", timeout = "50ms" }
retry = { times = 5 }
if_failed = ["tell"]
finally = ["never"]
run = "echo never >never"
[task.calls]
hold_until = { port = "$NOBODY", every = "10ms", timeout = "50ms" }
calls = ["never"]
env.NOBODY = "127.0.0.1:1"
[task.never]
run = "echo never >never"
[task.tell]
run = 'echo "$TUGLINE_FAILED_TASK" >told'
[task.drained]
calls = [["breaks", "waits"]]
[task.breaks]
run = "false"
[task.waits]
hold_until = { file = "nowhere", every = "10ms", timeout = "10m" }
run = "true"
[task.skipped]
when = "false"
hold_until = { file = "nowhere" }
run = "true"
`

// A task waits for its condition in no slot, and only if it is going to run. That it does
// not come true is a failure, which says what was seen last.
func TestTasksWaitForConditions(t *testing.T) {
	s := tell(t, held)
	s.write("in", "1")
	both := s.command("-j", "1", "--output", "blocks", "both")
	stdout, err := both.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, both.Start())
	line := make([]byte, len("late waits until go is there\n"))
	_, err = io.ReadFull(stdout, line)
	require.NoError(t, err)
	assert.Equal(t, "late waits until go is there\n", string(line))
	s.write("release", "")
	assert.NoError(t, both.Wait())
	require.NoError(t, os.Remove(filepath.Join(s.dir, "go")))
	assert.NotContains(t, s.tugline("late").stdout, "waits", "it is unchanged")

	r := s.tugline("asks")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `failed +asks .* waited 50ms until this succeeds: .*; last seen: exit code 3: not yet, tugline.toml:12:1`, r.stdout)
	assert.Equal(t, "asks\n", s.read("told"))
	r = s.tugline("calls")
	assert.Contains(t, r.stderr, "waited 50ms until 127.0.0.1:1 accepts connections; last seen: connection refused")
	assert.NoFileExists(t, filepath.Join(s.dir, "never"))

	r = s.tugline("drained")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `stopped +waits +not started because "breaks" failed`, r.stdout)
	assert.Equal(t, 0, s.tugline("skipped").code)
	assert.Contains(t, s.tugline("show", "late").stdout, "waits until go is there, at most 5m0s")

	waits := s.command("waits")
	out, err := waits.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, waits.Start())
	told := make([]byte, len("waits waits until"))
	_, err = io.ReadFull(out, told)
	require.NoError(t, err)
	require.NoError(t, waits.Process.Signal(os.Interrupt))
	assert.Equal(t, 130, exitCode(t, waits.Wait()))
}

func TestWhatATaskWaitsForIsChecked(t *testing.T) {
	s := tell(t, "[task.a]\nhold_until = { every = '1s' }\nrun = 'true'\n[task.b]\nneeds = ['a']\nhold_until = { port = 1 }\n[task.c]\nhold_until = { port = 'x', files = 'y' }\nrun = 'true'\n")
	errs := s.tugline("doctor").stderr
	assert.Contains(t, errs, `"hold_until" names nothing to wait for: give it port, http, file or run`)
	assert.Contains(t, errs, `"hold_until" has nothing to hold in task "b"`)
	assert.Contains(t, errs, `did you mean "file"?`)
}

// fleet sets up, waits for, checks, collects from and tears down simulated machines.
const fleet = `
default = "trial"
[lists]
machines = { list = ["m01", "m02", "m03", "m04", "m05", "m06", "m07", "m08", "m09", "m10", "m11", "m12", "m13", "m14", "m15", "m16", "m17", "m18", "m19", "m20", "m21", "m22", "m23", "m24", "m25", "m26", "m27", "m28", "m29", "m30"] }
[task.trial]
calls = ["machine"]
at_end = ["results"]
[task.machine]
each.name = "machines"
at_once = 4
after_failure = "continue"
calls = ['boot --name "$name"', 'check --name "$name"', 'collect --name "$name"']
finally = ['tear-down --name "$name"']
[task.boot]
args.name = {}
run = '''
mkdir -p up booted
touch "up/$name"
ls up | wc -l >>standing
touch "booted/$name"
'''
[task.check]
args.name = {}
hold_until = { file = "booted/$name", every = "10ms" }
run = '''
case $name in
m07|m19) echo "no answer from $name" >&2; exit 3;;
m20) echo >reached; test -e go || sleep 600;;
esac
'''
[task.collect]
args.name = {}
run = 'mkdir -p collected; echo "$name" >>"collected/$name"'
[task.tear-down]
args.name = {}
run = 'rm "up/$name"'
[task.results]
run = '''
"$PROGRAM" runs "$TUGLINE_RUN" --csv >results.csv
printf '%s\n' "$TUGLINE_FAILED_CALLS" >failed
'''
`

// A trial with many machines, of which some fail, is interrupted and goes on, and leaves
// none standing.
func TestAFleetOfMachines(t *testing.T) {
	s := tell(t, fleet)
	s.env = append(s.env, "PROGRAM="+program)
	standing := func() []os.DirEntry {
		up, err := os.ReadDir(filepath.Join(s.dir, "up"))
		require.NoError(t, err)
		return up
	}
	first := s.command("-j", "4")
	require.NoError(t, first.Start())
	s.waitForFile("reached")
	require.NoError(t, first.Process.Signal(os.Interrupt))
	assert.Equal(t, 130, exitCode(t, first.Wait()))
	assert.Empty(t, standing(), "after the interrupt")

	s.write("go", "")
	r := s.tugline("resume")
	assert.Equal(t, 1, r.code)
	assert.Empty(t, standing())
	assert.Equal(t, "check --name m07\ncheck --name m19\n", s.read("failed"))
	collected, err := os.ReadDir(filepath.Join(s.dir, "collected"))
	require.NoError(t, err)
	assert.Len(t, collected, 28)
	for line := range strings.Lines(s.read("standing")) {
		assert.LessOrEqual(t, strings.TrimSpace(line), "4", "torn down before others are set up")
	}
	results := s.read("results.csv")
	assert.Contains(t, results, "name,task,state,exit_code,ms,attempts,started,reason\n")
	assert.Regexp(t, `(?m)^check --name m19,check,failed,3,\d+,1,`, results)
	again := s.tugline("resume").stdout
	assert.Regexp(t, `ran +boot --name m07`, again)
	assert.NotRegexp(t, `ran +boot --name m08`, again, "it is done")
	assert.Contains(t, s.tugline("runs", "--csv").stdout, "id,started,ms,state,request,ran,")
}
