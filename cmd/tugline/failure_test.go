//go:build unix

package main

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAfterAFailure(t *testing.T) {
	s := tell(t, `
[task.all]
needs = ["bad", "slow", "later", "alone"]
[task.bad]
run = "while [ ! -e slow-runs ]; do sleep 0.01; done; exit 3"
[task.slow]
run = "echo x >slow-runs; while [ ! -e go ] && [ $(cat rounds | wc -l) -lt 30 ]; do echo x >>rounds; sleep 0.01; done; echo slow-done >>log"
env.X = { run = "touch rounds; rm -f slow-runs go; echo x" }
[task.later]
needs = ["slow"]
run = "echo later >>log"
[task.alone]
needs = ["slow"]
run = "echo alone >>log"
[task.needs-bad]
needs = ["bad"]
run = "echo never >>log"
`)
	ends := func(args ...string) map[string]string {
		s.write("log", "")
		s.write("rounds", "")
		r := s.tugline(append([]string{"-j2", "--output", "blocks"}, args...)...)
		assert.Equal(t, 1, r.code)
		return lines(r.stdout, `^(ran|failed|stopped|blocked) +(\S+)(?: +[0-9.]+s)?(?:  +(.*))?$`)
	}
	drained := ends("all")
	assert.Equal(t, "ran", drained["slow"])
	assert.Equal(t, `stopped: not started because "bad" failed`, drained["later"])
	assert.Equal(t, "slow-done\n", s.read("log"))

	aborted := ends("--after-failure", "abort", "all")
	assert.Equal(t, `stopped: stopped because "bad" failed`, aborted["slow"])
	assert.Equal(t, "", s.read("log"))

	s.write("tugline.toml", "after_failure = 'continue'\n"+s.read("tugline.toml"))
	continued := ends("all", "needs-bad")
	assert.Equal(t, "ran", continued["later"])
	assert.Equal(t, "ran", continued["alone"])
	assert.Equal(t, `blocked: needs "bad", which failed`, continued["needs-bad"])
	assert.ElementsMatch(t, []string{"slow-done", "later", "alone"}, strings.Fields(s.read("log")))
	assert.Equal(t, `stopped: not started because "bad" failed`, ends("--after-failure", "drain", "all")["later"], "the option is stronger")
	assert.Contains(t, s.tugline("--after-failure", "never", "all").stderr, `--after-failure must be drain, abort, continue, not "never"`)
}

func TestRetryAndTimeout(t *testing.T) {
	s := tell(t, `
[task.flaky]
retry = { times = 3, wait = "5ms", factor = 2.0 }
run = ["echo try >>tries", 'test $(wc -l <tries) -ge 3']
[task.hopeless]
retry = { times = 1 }
run = "exit 7"
[task.hangs]
timeout = "50ms"
retry = { times = 1 }
run = "sh -c 'echo $$ >>pids; sleep 60; :'"
[task.fits]
timeout = "1m"
run = "true"
[task.waits]
retry = { times = 1, wait = "1h" }
run = "echo x >waiting; exit 1"
`)
	r := s.tugline("--output", "blocks", "flaky")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.stdout, "attempt 1 of 4 failed, exit code 1; retrying in 5ms\n")
	assert.Contains(t, r.stdout, "attempt 2 of 4 failed, exit code 1; retrying in 10ms\n")
	assert.Regexp(t, `(?m)^ran +flaky +\S+s  attempt 3$`, r.stdout)

	r = s.tugline("--output", "blocks", "hopeless")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `(?m)^failed +hopeless +\S+s  exit code 7, after 2 attempts, tugline.toml:7:8$`, r.stdout)

	r = s.tugline("--output", "blocks", "hangs")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stdout, "attempt 1 of 2 failed, timed out after 50ms; retrying\n")
	assert.Regexp(t, `(?m)^failed +hangs +\S+s  timed out after 50ms, after 2 attempts`, r.stdout)
	s.eventuallyGone("pids")
	assert.Equal(t, 0, s.tugline("fits").code)

	cmd := s.command("waits")
	assert.NoError(t, cmd.Start())
	s.waitForFile("waiting")
	assert.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	assert.Equal(t, 130, exitCode(t, cmd.Wait()), "an interrupt ends the waiting")
}

func TestMistakesInRetry(t *testing.T) {
	s := tell(t, `after_failure = "stop"
[task.t]
retry = { wait = "soon", factor = 0.5 }
timeout = "-1s"
run = "x"
[task.group]
needs = ["t"]
retry = { times = 2 }
`)
	r := s.tugline("doctor")
	for _, want := range []string{
		`1:17: "after_failure" must be one of drain, abort, continue, not "stop"`, `3:1: "retry" does not say how many times`,
		`3:18: "wait" is no span of time: "soon"`, `3:35: "factor" must be at least 1`, `4:11: "timeout" is no span of time: "-1s"`,
		`8:1: "retry" has nothing to try in task "group"`,
	} {
		assert.Contains(t, r.stderr, "tugline.toml:"+want)
	}
}

func TestConditions(t *testing.T) {
	s := tell(t, `
[task.all]
needs = ["windows", "here", "ci", "not-ci", "text", "files", "script", "bare", "made"]
[task.windows]
when = { os = ["windows"] }
needs = ["only-for-windows"]
run = "echo no"
[task.only-for-windows]
run = "echo no"
[task.here]
when = { os = ["unix", "windows"], arch = ["amd64", "arm64", "386", "riscv64"] }
run = "true"
[task.ci]
when.env = { ON_CI = true }
run = "true"
[task.not-ci]
when.env = { ON_CI = false }
run = "true"
[task.text]
when.env = { LEVEL = "high" }
run = "true"
[task.files]
when.files = "notes/*.md"
run = "true"
[task.script]
when.run = "test -s notes.md; grep -q $LEVEL notes.md"
run = "true"
[task.bare]
when = "test ! -e notes.md"
run = "true"
[task.make]
run = "mkdir -p made; touch made/x"
[task.made]
needs = ["make"]
when.files = "made/*"
run = "true"
[task.after]
needs = ["windows"]
run = "echo goes on"
`)
	s.env = append(s.env, "LEVEL=low", "ON_CI=")
	assert.Equal(t, states{
		"windows": "skipped: only on windows, this is linux", "here": "ran", "ci": "skipped: only if ON_CI is set", "not-ci": "ran",
		"text": `skipped: only if LEVEL is "high", it is "low"`, "files": "skipped: only if notes/*.md exists",
		"script": "skipped: condition is false: test -s notes.md; grep -q $LEVEL notes.md", "bare": "ran", "make": "ran", "made": "ran",
	}, s.states("all"), "what a skipped task needs is not brought in")
	s.env = append(s.env, "LEVEL=high", "ON_CI=yes")
	s.write("notes.md", "high")
	s.write("notes/a.md", "x")
	found := s.states("all")
	for task, want := range map[string]string{"ci": "ran", "not-ci": `skipped: only if ON_CI is empty, it is "yes"`, "text": "ran", "files": "ran", "script": "ran"} {
		assert.Equal(t, want, found[task], task)
	}
	assert.Equal(t, states{"windows": "skipped: only on windows, this is linux", "after": "ran"}, s.states("after"))
	plan := s.planned("all")
	assert.Equal(t, "skip: only on windows, this is linux", plan["windows"])
	assert.Equal(t, "maybe: its condition is checked when its needs have ended", plan["script"])
	assert.Equal(t, "skip: only if ON_CI is empty, it is \"yes\"", plan["not-ci"])
	s.write("tugline.toml", "[task.t]\nwhen = { os = 'linus', evn = {}, env = { X = 1 } }\nrun = 'x'\n")
	r := s.tugline("t")
	for _, want := range []string{`2:15: unknown system "linus"`, `2:24: unknown key of when "evn"`, `2:46: "X" must be a string, true or false, not a whole number`} {
		assert.Contains(t, r.stderr, want)
	}
}

func TestRequirements(t *testing.T) {
	s := tell(t, `
[task.all]
needs = ["a", "b", "skipped"]
[task.a]
require = [{ tool = "ship", version = ">=2.5, <3", hint = "install ship" }, { file = "$TUGLINE_HERE/map" }]
run = "echo a >ran"
[task.b]
require = [{ tool = "no-such-tool" }, { run = "test -e flag", hint = "touch flag" }, { tool = "mute", version = ">1" }]
run = "echo b >ran"
[task.skipped]
when.os = "windows"
require = [{ tool = "only-on-windows" }]
run = "true"
`)
	tool := func(name, script string) {
		s.write("bin/"+name, "#!/bin/sh\n"+script+"\n")
		assert.NoError(t, os.Chmod(s.dir+"/bin/"+name, 0o755))
	}
	tool("ship", "echo ship 2.4.9 of 2026")
	tool("mute", "exit 1")
	s.env = append(s.env, "PATH="+s.dir+"/bin:"+os.Getenv("PATH"))
	r := s.tugline("all")
	assert.Equal(t, [2]any{3, ""}, [2]any{r.code, r.stdout})
	for _, want := range []string{
		`5:12: task "a" needs ship >=2.5, <3, but ` + s.dir + `/bin/ship is 2.4.9`, "^ install ship\n",
		`5:77: task "a" needs the file "$TUGLINE_HERE/map", which does not exist`,
		`8:12: task "b" needs the tool "no-such-tool", which was not found`,
		`8:39: task "b" needs what "test -e flag" checks: exit code 1`, "^ touch flag\n",
		`8:86: task "b" needs mute >1, and ` + s.dir + `/bin/mute --version does not tell which one it is`,
	} {
		assert.Contains(t, r.stderr, want)
	}
	assert.Equal(t, 5, strings.Count(r.stderr, "tugline.toml:"), "what a skipped task requires does not matter")
	assert.NoFileExists(t, s.dir+"/ran")
	tool("ship", "echo ship 2.5.1")
	s.write("map", "x")
	doctor := s.tugline("doctor", "a")
	assert.Equal(t, 0, doctor.code)
	assert.Regexp(t, `^requires +version +found +where\nship +>=2.5, <3 +2.5.1 +\S+/bin/ship\n\S+map +any +yes +\S+/map\n\n`, doctor.stdout)
	assert.Equal(t, 0, s.tugline("a").code)
	doctor = s.tugline("doctor")
	assert.Equal(t, 3, doctor.code)
	assert.Regexp(t, `no-such-tool +any +no\n`, doctor.stdout)
	assert.Equal(t, 0, s.tugline("doctor", "--file-only").code)

	s.write("tugline.toml", "[task.t]\nrequire = [{ version = '>1', file = 'x' }, { tool = 'x', version = 'new' }, 'x', {}]\nrun = 'x'\n")
	r = s.tugline("t")
	for _, want := range []string{`2:24: a version of what?`, `2:68: "new" is no range of versions`, `2:77: "require" must hold tables, not a string`, `2:82: an entry of "require" asks for nothing`} {
		assert.Contains(t, r.stderr, want)
	}
}

// Only the exit codes that are named are worth another attempt.
func TestRetryOnSomeExitCodes(t *testing.T) {
	s := tell(t, `
[task.busy]
retry = { times = 2, on = [75, 76] }
run = 'echo x >>tries; exit 75'
[task.broken]
retry = { times = 2, on = [75] }
run = 'echo x >>tries; exit 1'
[task.slow]
retry = { times = 2, on = [75] }
timeout = "50ms"
run = 'echo x >>tries; sleep 60'
`)
	for task, tries := range map[string]int{"busy": 3, "broken": 1, "slow": 1} {
		s.write("tries", "")
		assert.Equal(t, 1, s.tugline(task).code)
		assert.Equal(t, tries, strings.Count(s.read("tries"), "x"), task)
	}
	s.write("tugline.toml", "task.t = { run = 'x', retry = { times = 1, on = [0, 'x', 300] } }\n")
	assert.Equal(t, 3, strings.Count(s.tugline("list").stderr, `"on" holds exit codes from 1 to 255`))
}

// A tool that tells its version in another way is asked so; one that tells none is shown
// with what it printed.
func TestVersionFromACommand(t *testing.T) {
	s := tell(t, `
[task.good]
require = [{ tool = "./ship", version = ">=2", version_from = "./ship version" }]
run = "true"
[task.old]
require = [{ tool = "./ship", version = ">=3", version_from = "./ship version" }]
run = "true"
[task.mute]
require = [{ tool = "./ship", version = ">=2" }]
run = "true"
`)
	s.write("ship", "#!/bin/sh\ncase $1 in version) echo ship 2.5.1-3debian;; *) echo 'unknown option: '$1; exit 0;; esac\n")
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "ship"), 0o755))
	assert.Equal(t, 0, s.tugline("good").code)
	r := s.tugline("old")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, "is 2.5.1-3debian")
	r = s.tugline("mute")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, `does not tell which one it is: it prints "unknown option: --version"`)
}
