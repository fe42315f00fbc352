//go:build unix

package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// program is the built Tugline.
var program string

func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == helperArg {
		os.Exit(help(os.Args[2:]))
	}
	if os.Getenv("TUGLINE_STORY") == "never" {
		main() // linked, so that a change of the program is not taken for tested by go test's cache
	}
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "tugline-story-*")
		if err != nil {
			fmt.Println(err)
			return 1
		}
		defer os.RemoveAll(dir)
		os.Chmod(dir, 0o755) // best effort: a story may run the program as another user
		program = filepath.Join(dir, "tugline")
		build := exec.Command("go", "build", "-o", program, ".")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if looksForRaces {
			build = exec.Command("go", "build", "-race", "-o", program, ".")
			build.Env = append(os.Environ(), "CGO_ENABLED=1")
		}
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Printf("%s%v\n", out, err)
			return 1
		}
		return m.Run()
	}())
}

// result is what a call of Tugline came to.
type result struct {
	code           int
	stdout, stderr string
}

// story is a folder with files in which Tugline is called.
type story struct {
	t   *testing.T
	dir string
	env []string
}

// tell begins a story with the given project file.
func tell(t *testing.T, projectFile string) *story {
	t.Helper()
	t.Parallel()
	s := &story{t: t, dir: t.TempDir()}
	for _, pair := range os.Environ() {
		if name, _, _ := strings.Cut(pair, "="); name != "CI" && name != "NO_COLOR" && name != "TERM" {
			s.env = append(s.env, pair)
		}
	}
	if looksForRaces {
		s.env = append(s.env, "GORACE=atexit_sleep_ms=0") // nothing reports in the second that it waits otherwise
	}
	s.env = append(s.env, "TERM=xterm-256color", "TUGLINE_STORE="+filepath.Join(t.TempDir(), "store"))
	if projectFile != "" {
		s.write("tugline.toml", projectFile)
	}
	return s
}

func (s *story) write(name, text string) {
	s.t.Helper()
	path := filepath.Join(s.dir, name)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(s.t, os.WriteFile(path, []byte(text), 0o644))
}

func (s *story) read(name string) string {
	s.t.Helper()
	text, err := os.ReadFile(filepath.Join(s.dir, name))
	require.NoError(s.t, err)
	return string(text)
}

func (s *story) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = s.dir, s.env
	return cmd
}

// tugline calls Tugline off a terminal.
func (s *story) tugline(args ...string) result {
	s.t.Helper()
	var stdout, stderr bytes.Buffer
	cmd := s.command(args...)
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	return result{exitCode(s.t, cmd.Run()), stdout.String(), stderr.String()}
}

func exitCode(t *testing.T, err error) int {
	t.Helper()
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		require.NoError(t, err)
		return 0
	}
	return exit.ExitCode()
}

// terminal calls Tugline on a terminal of the given width and returns what
// appeared there, and the exit code.
func (s *story) terminal(columns uint16, args ...string) (string, int) {
	s.t.Helper()
	cmd := s.command(args...)
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 30, Cols: columns})
	require.NoError(s.t, err)
	defer tty.Close()
	screen, _ := io.ReadAll(tty) // ends with an error when the other side is closed
	return string(screen), exitCode(s.t, cmd.Wait())
}

const almanac = `
title = "Almanac"
[env]
EDITION = "2026-10"
[task.clean]
about = "Drop bad readings\nand say so"
run = "echo cleaned $EDITION >clean.txt; echo cleaning"
[task.chart]
about = "Draw"
aliases = "draw"
needs = ["clean"]
run = ["cat clean.txt", "echo drawn"]
[task.page]
needs = ["clean"]
run = "cat clean.txt >page.txt"
[task.all]
needs = ["chart", "page"]
[task.hidden]
unlisted = true
run = "echo 'a \"b\" $c'; pwd"
folder = "sub dir"
`

func TestTheDemo(t *testing.T) {
	s := tell(t, "")
	r := s.tugline("demo", "my almanac")
	require.Equal(t, 0, r.code, r.stderr)
	for _, name := range []string{"index.html", "merrowick.html", "merrowick.svg", "almanac.css"} {
		assert.NotEmpty(t, s.read("my almanac/out/"+name))
		assert.Contains(t, s.read("my almanac/out/checksums.txt"), name)
	}
	assert.Contains(t, s.read("my almanac/out/index.html"), "Kestrel Quay")
	assert.Contains(t, s.read("my almanac/out/index.html"), "by Merrowick harbour office.")
	assert.Contains(t, r.stdout, "merrowick: 738 good readings, 6 dropped")
	assert.Regexp(t, `almanac-2026-10.txt: +14 files from 3720 readings`, r.stdout)
	assert.Regexp(t, `(?s)ran +clean-readings.*ran +find-tides.*ran +write-pages.*ran +archive`, r.stdout)
	assert.Regexp(t, `25 ran in .*What to try next:`, strings.ReplaceAll(r.stderr, "\n", " "))

	assert.Contains(t, r.stderr, "  cd 'my almanac'\n")
	again := s.tugline("demo", "my almanac")
	assert.Equal(t, 2, again.code)
	assert.Contains(t, again.stderr, "is not empty")

	assert.Contains(t, s.tugline("-C", "my almanac").stdout, "unchanged  write-pages                                 5 of 5 instances\n")
	gauge := "my almanac/gauges/merrowick.csv"
	before := s.read(gauge)
	s.write(gauge, strings.Replace(before, "T04:00,", "T04:00,err", 1))
	changed := s.tugline("-C", "my almanac", "-v").stdout
	assert.Regexp(t, `ran +clean-readings --port merrowick +\d.\d\ds +gauges/merrowick.csv changed\n`, changed)
	assert.Regexp(t, `unchanged +clean-readings --port saltreach\n`, changed)
	assert.Regexp(t, `ran +draw-charts --port merrowick +\d.\d\ds +build/clean/merrowick.csv changed\n`, changed)
	assert.Regexp(t, `unchanged +summarize\n`, changed, "the month's highest water is the same")
	s.write(gauge, before)
	assert.NotRegexp(t, `(?m)^ran`, s.tugline("-C", "my almanac").stdout)

	s.write("a file", "x")
	assert.Equal(t, 2, s.tugline("demo", "a file").code)
	assert.Equal(t, "x", s.read("a file"))

	tides := s.tugline("-C", "my almanac", "-q", "-j1", "spring-tides")
	assert.Contains(t, tides.stdout, "2026-10-29 12:05 high 5.05 m\n")
	doctor := s.tugline("-C", "my almanac", "doctor")
	assert.Equal(t, 3, doctor.code)
	assert.Contains(t, doctor.stderr, `the variable "COURIER_KEY" is not set, and task "courier/send" needs it`)
	s.env = append(s.env, "COURIER_KEY=k-4711")
	doctor = s.tugline("-C", "my almanac", "doctor")
	assert.Regexp(t, `^requires +version +found +where\ncksum +any +yes +/\S+\nawk +any +yes +/\S+\n\n16 scripts run in the built-in shell, 4 in bash \(/\S+bash [0-9.]+\S*\)\ntugline.toml with 1 part: 22 tasks, no problems found\n$`, doctor.stdout)
	assert.Contains(t, s.tugline("-C", "my almanac/courier", "send").stdout, "courier: your key is •••\n")

	s.write("my almanac/courier/closed.txt", "saltreach\n")
	round := s.tugline("-C", "my almanac/courier", "round")
	assert.Equal(t, 1, round.code)
	assert.Contains(t, round.stderr, `task "courier/parcel --port saltreach" failed`)
	assert.Contains(t, round.stderr, "7 ran, 15 unchanged, 1 failed, 1 blocked in ")
	assert.Equal(t, "courier/parcel --port saltreach: courier: saltreach is closed by a storm\n", s.read("my almanac/courier/outbox/complaints.txt"))
	assert.Equal(t, "closed\n", s.read("my almanac/courier/outbox/office"))
	require.NoError(t, os.Remove(filepath.Join(s.dir, "my almanac/courier/closed.txt")))
	round = s.tugline("-C", "my almanac/courier", "resume")
	assert.Equal(t, 0, round.code, round.stderr)
	assert.Contains(t, round.stderr, "8 ran, 15 unchanged in ", "the office was closed, so the round starts anew")
	assert.Contains(t, round.stdout, "attempt 1 of 3 failed, exit code 75; retrying in 100ms\n")
}

func TestTasksRunInOrder(t *testing.T) {
	s := tell(t, almanac)
	r := s.tugline("all", "--jobs", "1")
	require.Equal(t, 0, r.code, r.stderr)
	assert.Regexp(t, `^ran        clean   0\.\d\ds
    » echo cleaned \$EDITION >clean\.txt
    » echo cleaning
    cleaning
ran        chart   0\.\d\ds
    » cat clean\.txt
    cleaned 2026-10
    » echo drawn
    drawn
ran        page    0\.\d\ds
    » cat clean\.txt >page\.txt
$`, r.stdout)
	assert.Regexp(t, `^\n3 ran in 0\.\d\ds.*\n$`, r.stderr)
	assert.Equal(t, "cleaned 2026-10\n", s.read("page.txt"))
}

func TestOneTaskAloneKeepsItsStreams(t *testing.T) {
	s := tell(t, "task.a.run = 'cat; echo to stderr >&2'\n")
	var stdout, stderr bytes.Buffer
	cmd := s.command("a")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader("from stdin\n"), &stdout, &stderr
	require.NoError(t, cmd.Run())
	assert.Equal(t, "from stdin\n", stdout.String())
	assert.Regexp(t, "^» cat\n» echo to stderr >&2\nto stderr\n1 ran in .*\n$", stderr.String())

	assert.Equal(t, result{0, "", "to stderr\n"}, s.tugline("-q", "a"))
}

func TestTheProjectIsFoundFromBelow(t *testing.T) {
	s := tell(t, almanac)
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "sub dir", "deep"), 0o755))
	want := "a \"b\" $c\n" + filepath.Join(s.dir, "sub dir") + "\n"
	assert.Equal(t, want, s.tugline("-C", "sub dir/deep", "hidden").stdout)
	require.NoError(t, os.Rename(filepath.Join(s.dir, "tugline.toml"), filepath.Join(s.dir, "other.toml")))
	assert.Equal(t, want, s.tugline("--file", "other.toml", "hidden").stdout)

	r := s.tugline("hidden")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "no tugline.toml in "+s.dir)
	assert.Contains(t, s.tugline("-C", "nowhere", "hidden").stderr, `the folder "nowhere" of -C does not exist`)
}

func TestABareCall(t *testing.T) {
	s := tell(t, almanac)
	r := s.tugline()
	assert.Equal(t, result{0, `Almanac

  clean   Drop bad readings
  chart   Draw (also draw)
  page
  all
`, ""}, r)
	s.write("tugline.toml", "default = ['page', 'clean']\n"+almanac)
	r = s.tugline()
	assert.Equal(t, 0, r.code)
	assert.Regexp(t, `(?s)^ran +clean.*ran +page`, r.stdout)
}

func TestList(t *testing.T) {
	s := tell(t, almanac)
	assert.Regexp(t, `(?s)all.*chart.*clean.*hidden.*page`, s.tugline("list", "--all", "--sort", "name").stdout)
	assert.Equal(t, 2, s.tugline("list", "--sort", "size").code)
	var list struct{ Tasks []map[string]any }
	require.NoError(t, json.Unmarshal([]byte(s.tugline("list", "--json").stdout), &list))
	assert.Len(t, list.Tasks, 4)
	assert.Equal(t, map[string]any{
		"name": "chart", "about": "Draw", "aliases": []any{"draw"}, "args": []any{}, "needs": []any{"clean"},
		"calls": []any{}, "then": []any{}, "if_failed": []any{}, "finally": []any{}, "at_end": []any{},
		"reads": []any{}, "writes": []any{}, "file": "tugline.toml", "line": 8.0, "unlisted": false,
	}, list.Tasks[1])
}

func TestABadFileStartsNothing(t *testing.T) {
	s := tell(t, "titel = 'x'\n[task.a]\nrun = 'touch started'\nneeds = ['bb']\n[task.b]\nrun = 'if x'\n")
	for _, args := range [][]string{{"a"}, {"doctor", "--file-only"}, {"list"}} {
		r := s.tugline(args...)
		assert.Equal(t, result{2, "", `tugline.toml:1:1: unknown key "titel"
    1 | titel = 'x'
      | ^^^^^ did you mean "title"?
tugline.toml:4:10: task "a" needs "bb", but there is no such task
    4 | needs = ['bb']
      |          ^^^^ did you mean "b"?
`}, r)
	}
	assert.NoFileExists(t, filepath.Join(s.dir, "started"))

	s.write("tugline.toml", "[task.a]\nrun = ['touch started', 'if x']\n")
	for _, args := range [][]string{{"a"}, {"doctor", "--file-only"}} {
		r := s.tugline(args...)
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.stderr, "tugline.toml:2:26: task \"a\": `if <cond>` must be followed by `then`\n")
	}
	assert.NoFileExists(t, filepath.Join(s.dir, "started"))
}

func TestAFailureIsShown(t *testing.T) {
	s := tell(t, `
[task.bad]
run = """
echo one
for port in merrowick saltreach; do
    echo "$port"
    test -e "$port.csv"
done
"""
[task.page]
needs = ["bad"]
run = "touch started"
`)
	r := s.tugline("page")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `(?s)^failed     bad    0\.\d\ds  exit code 1, tugline.toml:7:5\n    » echo one\n    one\n.*blocked    page          needs "bad", which failed\n$`, r.stdout)
	assert.Regexp(t, `^
tugline.toml:7:5: task "bad" failed
    7 |     test -e "\$port\.csv"
      |     \^{19} exit code 1
      its output:
      one
      merrowick

1 failed, 1 blocked in 0\.\d\ds
$`, r.stderr)
	assert.NoFileExists(t, filepath.Join(s.dir, "started"))
}

func TestWrongUse(t *testing.T) {
	s := tell(t, almanac+"[task.py]\nshell = 'no-such-shell'\nrun = 'x'\n")
	tests := []struct {
		args []string
		code int
		msg  string
	}{
		{[]string{"pgae"}, 2, "tugline: there is no task \"pgae\"\n  did you mean \"page\"?\n"},
		{[]string{"zzz"}, 2, "tugline: there is no task \"zzz\"\n  see tugline list for the tasks\n"},
		{[]string{"page", "--nope"}, 2, "tugline: neither task \"page\" nor Tugline has an option --nope\n  Tugline options: --jobs --output --after-failure --set --env-file --force --force-needs --as-is --no-store --yes --events --junit --dry-run --folder --file --quiet --verbose --color --help\n"},
		{[]string{"page", "-j", "0"}, 2, "tugline: --jobs must be at least 1, not 0\n"},
		{[]string{"page", "--output", "x"}, 2, "tugline: --output must be auto, lines, blocks or direct, not \"x\"\n"},
		{[]string{"page", "--color", "x"}, 2, "tugline: --color must be auto, always or never, not \"x\"\n"},
		{[]string{"page", "--", "x"}, 2, "tugline: task \"page\" takes no words behind --\n"},
		{[]string{"list", "page"}, 2, "tugline: tugline list takes no \"page\"\n"},
		{[]string{"page", "py"}, 3, "tugline.toml:23:9: task \"py\": interpreter \"no-such-shell\" not found\n   23 | shell = 'no-such-shell'\n      |         ^^^^^^^^^^^^^^^ install it, or mend the PATH\n"},
		{[]string{"doctor"}, 3, "tugline.toml:23:9: task \"py\": interpreter \"no-such-shell\" not found\n   23 | shell = 'no-such-shell'\n      |         ^^^^^^^^^^^^^^^ install it, or mend the PATH\n"},
	}
	for _, test := range tests {
		assert.Equal(t, result{test.code, "", test.msg}, s.tugline(test.args...), test.args)
	}
	assert.NoFileExists(t, filepath.Join(s.dir, "clean.txt"))
}

func TestHelpVersionAndSchema(t *testing.T) {
	s := tell(t, "")
	assert.Contains(t, s.tugline("help").stdout, "tugline list")
	assert.Contains(t, s.tugline("run", "--help").stdout, "--jobs N")
	assert.Contains(t, s.tugline("help", "list").stdout, "--sort ORDER")
	s.write("tugline.toml", "[task.page]\nabout = 'Write a page'\nrun = 'x'\n")
	assert.Contains(t, s.tugline("help", "page").stdout, "Write a page\n")
	assert.Equal(t, result{2, "", "tugline: there is no task \"pgae\"\n  did you mean \"page\"?\n"}, s.tugline("help", "pgae"))
	assert.Regexp(t, `^tugline \S+ \(`, s.tugline("version").stdout)
	assert.True(t, json.Valid([]byte(s.tugline("schema").stdout)))
}

func TestOnATerminal(t *testing.T) {
	s := tell(t, almanac)
	screen, code := s.terminal(80, "all", "-j", "1")
	assert.Equal(t, 0, code)
	assert.Contains(t, screen, "\x1b[")
	screen, _ = s.terminal(80, "all", "-j", "1", "--color", "never")
	assert.Contains(t, screen, "clean · » echo cleaning\r\n")
	assert.Contains(t, screen, "chart · drawn\r\n")
	env := s.env
	for _, setting := range []string{"TERM=dumb", "CI=true"} {
		s.env = append(env[:len(env):len(env)], setting)
		screen, _ = s.terminal(80, "all")
		assert.NotContains(t, screen, "\x1b", setting)
	}
	s.env = append(env[:len(env):len(env)], "NO_COLOR=1")
	screen, _ = s.terminal(80, "list")
	assert.NotContains(t, screen, "\x1b")
	assert.Contains(t, s.tugline("list", "--color", "always").stdout, "\x1b[")
}

func TestAnInterruptEndsAll(t *testing.T) {
	for name, want := range map[string]struct {
		signal syscall.Signal
		code   int
	}{"INT": {syscall.SIGINT, 130}, "TERM": {syscall.SIGTERM, 143}, "HUP": {syscall.SIGHUP, 129}} {
		t.Run(name, func(t *testing.T) {
			s := tell(t, `
[task.a]
run = "echo $$ >/dev/null; sh -c 'echo $$ >pid; exec sleep 1000' | cat"
[task.b]
needs = ["a"]
run = "touch started"
`)
			var stdout, stderr bytes.Buffer
			cmd := s.command("b")
			cmd.Stdout, cmd.Stderr = &stdout, &stderr
			require.NoError(t, cmd.Start())
			pid := s.waitForFile("pid")
			require.NoError(t, cmd.Process.Signal(want.signal))
			assert.Equal(t, want.code, exitCode(t, cmd.Wait()))
			assert.Regexp(t, `(?s)stopped +a .* interrupted\n.*stopped +b `, stdout.String())
			assert.Regexp(t, `2 stopped in`, stderr.String())
			var alive int
			fmt.Sscan(pid, &alive)
			assert.ErrorIs(t, syscall.Kill(alive, 0), syscall.ESRCH)
			assert.NoFileExists(t, filepath.Join(s.dir, "started"))
		})
	}
}

// waitForFile returns the text of a file as soon as it has one.
func (s *story) waitForFile(name string) string {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), time.Minute)
	defer cancel()
	tick := time.NewTicker(2 * time.Millisecond)
	defer tick.Stop()
	for {
		text, _ := os.ReadFile(filepath.Join(s.dir, name)) // not there yet
		if len(text) > 0 {
			return string(text)
		}
		select {
		case <-ctx.Done():
			require.Fail(s.t, "the file never came", name)
		case <-tick.C:
		}
	}
}

// eventuallyGone waits until the process of a pid file has ended.
func (s *story) eventuallyGone(pidFile string) {
	s.t.Helper()
	var pid int
	_, err := fmt.Sscan(s.waitForFile(pidFile), &pid)
	require.NoError(s.t, err)
	tick := time.NewTicker(2 * time.Millisecond)
	defer tick.Stop()
	for deadline := time.After(time.Minute); ; {
		stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil || strings.Contains(string(stat), ") Z ") {
			return
		}
		select {
		case <-deadline:
			require.Fail(s.t, "a process lives on", pidFile)
		case <-tick.C:
		}
	}
}

func TestNothingOutlivesTuglineKilledHard(t *testing.T) {
	s := tell(t, `
[task.tree]
run = "sh -c 'sh -c \"echo \\$\\$ >grandchild; exec sleep 1000\" & echo $$ >child; wait'"
[task.bash]
shell = "bash"
run = "echo $$ >bash; (echo $BASHPID >sub; sleep 1000) | cat"
[task.all]
needs = ["tree", "bash"]
`)
	cmd := s.command("all", "-j", "2")
	require.NoError(t, cmd.Start())
	for _, name := range []string{"grandchild", "child", "bash", "sub"} {
		s.waitForFile(name)
	}
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait()
	for _, name := range []string{"grandchild", "child", "bash", "sub"} {
		s.eventuallyGone(name)
	}
}

func TestAProcessThatLeftItsGroupEndsWithTheRun(t *testing.T) {
	s := tell(t, `
[task.daemon]
run = """`+helper("setsid")+` sh -c 'echo $$ >daemon; exec sleep 1000' >/dev/null 2>&1; while ! test -s daemon; do sleep 0.01; done"""
shell = "sh"
`)
	r := s.tugline("daemon")
	assert.Equal(t, 0, r.code)
	s.eventuallyGone("daemon")
}

func TestAProcessOfSomeoneElseIsLeftAlone(t *testing.T) {
	s := tell(t, "task.a.run = 'ls >/dev/null'\n")
	cmd := s.command()
	cmd.Path, cmd.Args = "/bin/sh", []string{"sh", "-c", `sleep 1000 & echo $! >pid; exec "$0" a`, program}
	require.NoError(t, cmd.Run())
	var pid int
	_, err := fmt.Sscan(s.read("pid"), &pid)
	require.NoError(t, err)
	assert.NoError(t, syscall.Kill(pid, syscall.SIGKILL), "it must be alive")
}

func TestASecondInterruptKillsAtOnce(t *testing.T) {
	s := tell(t, "[task.deaf]\nshell = 'sh'\nrun = '''\ntrap 'echo x >got' INT\ntrap '' TERM\necho $$ >pid\nwhile :; do sleep 0.05; done\n'''\n")
	cmd := s.command("deaf")
	require.NoError(t, cmd.Start())
	s.waitForFile("pid")
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	s.waitForFile("got")
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	assert.Equal(t, 130, exitCode(t, cmd.Wait()))
	s.eventuallyGone("pid")
}
