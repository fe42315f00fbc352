//go:build unix

package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestComposedWork(t *testing.T) {
	s := tell(t, `
[task.deploy]
args.code = { type = "int", default = 0 }
calls = ["provision", ["wait-a", "wait-b"], 'check --code "$code"']
then = ["tell"]
if_failed = ["collect"]
finally = ["teardown"]
[task.provision]
run = "echo provision >>log"
[task.wait-a]
run = "test -e log; echo wait >>log"
[task.wait-b]
run = "test -e log; echo wait >>log"
[task.check]
args.code = { type = "int", default = 0 }
run = 'echo check >>log; echo checking; exit "$code"'
[task.tell]
run = "echo tell >>log"
[task.collect]
run = 'echo "collect [$TUGLINE_FAILED_TASK] $TUGLINE_EXIT_CODE" >>log; cat "$TUGLINE_FAILED_LOG" >>log'
[task.teardown]
run = 'echo teardown >>log; exit 1'
[task.all]
needs = ["deploy --code 7"]
run = "echo never >>log"
`)
	r := s.tugline("deploy")
	assert.Equal(t, 1, r.code, "its teardown fails")
	assert.Equal(t, "provision\nwait\nwait\ncheck\ntell\nteardown\n", s.read("log"))
	assert.Contains(t, r.stderr, "5 ran, 1 failed in ")

	s.write("log", "")
	r = s.tugline("all")
	assert.Equal(t, 1, r.code)
	assert.Equal(t, "provision\nwait\nwait\ncheck\ncollect [check --code 7] 7\nchecking\nteardown\n", s.read("log"))
	assert.Contains(t, r.stderr, `task "check --code 7" failed`)
	assert.Contains(t, r.stderr, `task "teardown" failed`, "beside the first one")
	assert.Contains(t, r.stderr, "4 ran, 2 failed, 2 blocked in ")
	assert.Equal(t, `blocked: needs "deploy --code 7", which failed`, lines(r.stdout, `^(blocked) +(all) +(.*)$`)["all"])

	planned := s.planned("deploy")
	assert.Contains(t, planned["collect"], "maybe: only if deploy fails")
	assert.Contains(t, planned["teardown"], "run: after deploy, however it ends")
	var listed struct {
		Tasks []struct {
			Name    string     `json:"name"`
			Calls   [][]string `json:"calls"`
			Finally [][]string `json:"finally"`
		} `json:"tasks"`
	}
	require.NoError(t, json.Unmarshal([]byte(s.tugline("list", "--json").stdout), &listed))
	assert.Equal(t, [][]string{{"provision"}, {"wait-a", "wait-b"}, {`check --code "$code"`}}, listed.Tasks[0].Calls)
	assert.Equal(t, [][]string{{"teardown"}}, listed.Tasks[0].Finally)
}

func TestConditionsOfComposedWork(t *testing.T) {
	s := tell(t, `
[task.asked]
when = "test -e go"
calls = ["one"]
finally = ["two"]
[task.looked-for]
when = { files = "go*" }
calls = ["one"]
finally = ["two"]
[task.noted]
when = "test -e go"
run = "true"
then = ["two"]
[task.one]
run = "echo one >>log"
[task.two]
needs = ["one"]
run = "echo two >>log"
`)
	assert.Equal(t, "maybe: only if the condition of noted holds", s.planned("noted")["two"])
	planned := s.planned("asked")
	assert.Equal(t, "maybe: only if the condition of asked holds", planned["one"])
	assert.Equal(t, "maybe: only if the condition of asked holds", planned["two"])
	planned = s.planned("looked-for")
	assert.Equal(t, "skip: only if go* exists", planned["looked-for"])
	assert.Contains(t, planned["one"], "skip: called by looked-for, which is skipped")
	assert.Equal(t, "skip: called by looked-for, which is skipped", planned["two"])
	for _, task := range []string{"asked", "looked-for", "noted"} {
		r := s.tugline(task)
		assert.Equal(t, 0, r.code)
		assert.Contains(t, r.stderr, "1 skipped in ")
		assert.NoFileExists(t, filepath.Join(s.dir, "log"))
	}
	s.write("go", "")
	require.Equal(t, 0, s.tugline("asked").code)
	assert.Equal(t, "one\ntwo\n", s.read("log"))
}

func TestCleaningUpAfterAnInterrupt(t *testing.T) {
	s := tell(t, `
[task.work]
calls = ["set-up", "long"]
if_failed = ["mourn"]
finally = ["tidy", "sweep-up"]
[task.set-up]
run = "echo set up >log"
[task.long]
run = "echo x >runs; sleep 60"
[task.mourn]
run = "echo mourn >>log"
[task.tidy]
run = "echo tidy >>log; exit 3"
[task.sweep-up]
run = "echo swept >>log"
[task.hangs]
finally = ["slow"]
run = "true"
[task.slow]
run = 'while [ ! -s side ]; do sleep 0.01; done; echo x >slow-runs; while kill -0 "$(cat side)" 2>/dev/null; do sleep 0.01; done'
[task.side]
run = "sh -c 'echo $$ >side; exec sleep 600'"
[task.pair]
needs = ["hangs", "side"]
`)
	interrupt := func(file string, args ...string) (int, string) {
		t.Helper()
		cmd := s.command(args...)
		out, err := os.Create(filepath.Join(s.dir, "out"))
		require.NoError(t, err)
		defer out.Close()
		cmd.Stdout, cmd.Stderr = out, out
		require.NoError(t, cmd.Start())
		s.waitForFile(file)
		require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
		return exitCode(t, cmd.Wait()), s.read("out")
	}
	code, out := interrupt("runs", "work")
	assert.Equal(t, 130, code)
	assert.Equal(t, "set up\ntidy\nswept\n", s.read("log"), "all of it, though a part failed")
	assert.Contains(t, out, "2 ran, 1 failed, 1 stopped in ")
	code, out = interrupt("slow-runs", "pair")
	assert.Equal(t, 130, code)
	assert.Contains(t, out, "2 ran, 1 stopped in ", "what cleans up goes on")
}

func TestInstances(t *testing.T) {
	s := tell(t, `
[lists]
ports = { files = "gauges/**/*.csv", as = "below" }
sizes = ["small", "large", "small"]
none = { files = "nothing/*" }
[task.clean]
each.port = "ports"
reads.raw = "gauges/$port.csv"
writes.out = "build/$port.csv"
run = 'test "$port" != north/bad; cp "$raw" "$out"'
[task.page]
each.port = "ports"
each.size = "sizes"
reads = ["build/$port.csv"]
run = 'echo "$size page of $port"'
[task.found]
each.line = { lines = "made.txt" }
needs = ["ready"]
run = 'echo "found $line"'
[task.make]
reads = ["source.txt"]
writes = ["made.txt"]
run = "cp source.txt made.txt"
[task.split]
each.line = { lines = "made.txt" }
reads = ["made.txt"]
writes = ["parts/$line"]
run = 'echo "$line" >"parts/$line"'
[task.joined]
reads = ["parts/*"]
run = "cat parts/*"
[task.ready]
run = "true"
[task.empty]
each.x = "none"
run = "false"
[task.needs-empty]
needs = ["empty"]
run = "echo none needed"
[task.printed]
each.x = { run = "echo a b; echo; echo 'c$d'" }
run = 'echo "[$x]"'
`)
	s.write("gauges/merrowick.csv", "1\n")
	s.write("gauges/gull rock.csv", "2\n")
	s.write("gauges/north/tarn.csv", "3\n")
	s.write("source.txt", "one\n\n# no\n two words \none\n")
	r := s.tugline("page")
	assert.Equal(t, 0, r.code, r.stderr)
	assert.Contains(t, r.stdout, "    large page of gull rock\n")
	assert.Contains(t, r.stderr, "9 ran in ")
	s.write("gauges/merrowick.csv", "one\n")
	assert.Equal(t, map[string]string{
		"clean --port merrowick": "run", "clean --port 'gull rock'": "unchanged", "clean --port north/tarn": "unchanged",
	}, actions(s, "clean"))
	assert.Equal(t, map[string]string{"clean --port merrowick": "run", "page --port merrowick --size small": "maybe"}, actions(s, "page", "--port", "merrowick", "--size", "small"),
		"only what this instance reads")

	r = s.tugline("page", "--port", "nowhere")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `there is no value "nowhere" for --port of task "page"`)
	assert.Contains(t, s.tugline("page", "--port", "merowick").stderr, `did you mean "merrowick"?`)

	assert.Equal(t, "maybe: its values are known when make has ended", s.planned("found")["found"])
	r = s.tugline("found", "--output", "blocks")
	assert.Equal(t, 0, r.code, r.stderr)
	assert.Contains(t, r.stdout, "    found one\n")
	assert.Contains(t, r.stdout, "    found  two words \n")
	assert.Contains(t, r.stderr, "4 ran in ")
	assert.Equal(t, "unchanged", actions(s, "found")["make"])
	assert.Contains(t, actions(s, "found"), "found --line ' two words '")

	require.Equal(t, 0, s.tugline("joined").code)
	assert.Equal(t, map[string]string{"make": "unchanged", "split --line one": "unchanged", "split --line ' two words '": "unchanged", "joined": "unchanged"}, actions(s, "joined"))
	require.NoError(t, os.Remove(filepath.Join(s.dir, "parts/one")))
	assert.Equal(t, map[string]string{"make": "unchanged", "split --line one": "restore", "split --line ' two words '": "unchanged", "joined": "maybe"}, actions(s, "joined"))
	s.write("source.txt", "three\n")
	assert.Equal(t, map[string]string{"make": "run", "split": "maybe", "joined": "maybe"}, actions(s, "joined"))
	r = s.tugline("joined")
	assert.Contains(t, r.stdout, "    three\n")

	r = s.tugline("needs-empty")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.stdout+r.stderr, `there is no value for "x"`)
	assert.Contains(t, r.stdout, "none needed")
	r = s.tugline("printed", "--output", "blocks")
	assert.Contains(t, r.stdout, "[a b]")
	assert.Contains(t, r.stdout, "[c$d]")

	s.write("gauges/north/bad.csv", "x\n")
	r = s.tugline("clean", "-j1")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, `task "clean --port north/bad" failed`)
}

// actions returns what a plan says is to be done with each step.
func actions(s *story, args ...string) map[string]string {
	out := map[string]string{}
	var plan struct {
		Tasks []struct{ Name, Action string } `json:"tasks"`
	}
	r := s.tugline(append([]string{"plan", "--json"}, args...)...)
	require.Equal(s.t, 0, r.code, r.stderr)
	require.NoError(s.t, json.Unmarshal([]byte(r.stdout), &plan))
	for _, task := range plan.Tasks {
		out[task.Name] = task.Action
	}
	return out
}

// A report is made last of all, however its task ended, and resume takes no notice of it.
func TestAtEndOnlyTells(t *testing.T) {
	s := tell(t, `
[task.machine]
each.name = { list = ["a", "b", "c"] }
calls = ["set-up --name $name", "check --name $name"]
finally = ["tear-down --name $name"]
at_end = ["report"]
[task.set-up]
args.name = {}
run = 'echo "up $name" >>log'
[task.check]
args.name = {}
run = 'echo "check $name" >>log; test "$name" != b || test -s fine'
[task.tear-down]
args.name = {}
run = 'echo "down $name" >>log'
[task.report]
run = 'echo "report $TUGLINE_FAILED_TASK" >>log'
[task.quiet]
reads = "fine"
at_end = ["report"]
run = "true"
[task.blocked]
needs = ["fails"]
at_end = ["report"]
run = "true"
[task.fails]
run = "exit 1"
[task.after]
needs = ["quiet"]
run = 'echo after >>log'
`)
	s.write("fine", "")
	s.write("log", "")
	assert.Equal(t, 1, s.tugline("-j", "1", "--after-failure", "continue", "machine").code)
	lines := strings.Split(strings.TrimSpace(s.read("log")), "\n")
	assert.Equal(t, "report check --name b", lines[len(lines)-1], "once, after the last machine")
	assert.Equal(t, 1, strings.Count(s.read("log"), "report"))
	assert.Equal(t, 3, strings.Count(s.read("log"), "down"))

	s.write("fine", "x")
	s.write("log", "")
	assert.Equal(t, 0, s.tugline("-j", "1", "resume").code)
	assert.Equal(t, "up b\ncheck b\ndown b\nreport \n", s.read("log"), "only the machine that failed, and the report")

	for _, test := range []struct{ task, want string }{{"quiet", "report \n"}, {"quiet", "report \n"}, {"blocked", "report \n"}} {
		s.write("log", "")
		s.tugline(test.task)
		assert.Equal(t, test.want, s.read("log"), test.task)
	}
	s.write("log", "")
	require.Equal(t, 0, s.tugline("-j", "1", "after").code)
	assert.ElementsMatch(t, []string{"after", "report"}, strings.Fields(s.read("log")), "nothing waits for it")
	assert.Contains(t, s.tugline("plan", "quiet").stdout, "last of all, after quiet")
	assert.Contains(t, s.tugline("show", "quiet").stdout, "Calls last of all:\n  report\n")
}
