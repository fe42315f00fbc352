//go:build unix

package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two tasks print at the same time: no line is torn, lost or out of order.
func TestOutputUnderLoad(t *testing.T) {
	const lines = 100_000
	for _, mode := range []string{"lines", "blocks"} {
		t.Run(mode, func(t *testing.T) {
			s := tell(t, `
[task.one]
run = "awk 'BEGIN { for (i = 0; i < 100000; i++) print \"line\", i, \"of one, with some more text behind it\" }'"
[task.two]
run = "awk 'BEGIN { for (i = 0; i < 100000; i++) print \"line\", i, \"of two, with some more text behind it\" }'"
[task.both]
needs = ["one", "two"]
`)
			r := s.tugline("both", "--output", mode, "-q", "-j", "2")
			require.Equal(t, 0, r.code)
			next := map[string]int{}
			for line := range strings.Lines(r.stdout) {
				var n int
				var name string
				line = line[max(0, strings.LastIndex(line, "line ")):]
				if _, err := fmt.Sscanf(line, "line %d of %3s, with some more text behind it\n", &n, &name); err != nil {
					assert.Contains(t, line, "ran ", "a torn line")
					continue
				}
				require.Equal(t, next[name], n, "task %s", name)
				next[name]++
			}
			assert.Equal(t, map[string]int{"one": lines, "two": lines}, next)
		})
	}
}

func TestWhenTheOutputGoesNowhere(t *testing.T) {
	s := tell(t, "task.a.run = ['echo a', 'touch a']\ntask.b.run = 'seq 100000 >out; cat out; touch b'\n")
	sh := func(line string) result {
		os.RemoveAll(filepath.Join(s.dir, "a"))
		os.RemoveAll(filepath.Join(s.dir, "b"))
		cmd := s.command()
		cmd.Path, cmd.Args = "/bin/sh", []string{"sh", "-c", line, program}
		var out, stderr strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &stderr
		return result{exitCode(t, cmd.Run()), out.String(), stderr.String()}
	}
	r := sh(`"$0" a b >/dev/full`)
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.stderr, "tugline: showing the output: write /dev/stdout: no space left on device\n")

	r = sh(`"$0" a >/dev/full`)
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.stderr, "no space left on device\n")
	assert.NoFileExists(t, filepath.Join(s.dir, "a"))
	r = sh(`"$0" -q b | head -1`)
	assert.Equal(t, "1\n", r.stdout)
	assert.FileExists(t, filepath.Join(s.dir, "b"))

	r = sh(`{ "$0" a b; echo "code $?" >&2; } | head -1`)
	assert.Contains(t, r.stdout, "ran ")
	assert.Contains(t, r.stderr, "code 0")
	assert.FileExists(t, filepath.Join(s.dir, "b"), "a reader that goes away does not stop the run")

	assert.Equal(t, 0, sh(`"$0" a b >&-`).code)
	for _, args := range [][]string{{"list"}, {"plan", "a", "--json"}, {"runs"}} {
		reader, stdout, err := os.Pipe()
		require.NoError(t, err)
		require.NoError(t, reader.Close())
		cmd, stderr := s.command(args...), strings.Builder{}
		cmd.Stdout, cmd.Stderr = stdout, &stderr
		assert.NoError(t, cmd.Run(), args)
		assert.Empty(t, stderr.String(), "who read it has seen enough")
	}

	s.write("tugline.toml", "task.a = { shell = 'sh', run = 'echo a' }\n")
	s.env = append(s.env, "TMPDIR=/no/such/folder")
	r = s.tugline("a")
	assert.Equal(t, 4, r.code, "it is not the task that failed")
	assert.Contains(t, r.stderr, "writing the script to a temporary file")
}

func TestAFileThatRunsItself(t *testing.T) {
	s := tell(t, "")
	s.write("tools/almanac.toml", "#!/usr/bin/env tugline\ntask.a.run = 'echo ran in $(basename \"$PWD\")'\n")
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "tools/almanac.toml"), 0o755))
	s.env = append(s.env, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	cmd := s.command("a")
	cmd.Path = filepath.Join(s.dir, "tools/almanac.toml")
	out, err := cmd.Output()
	require.NoError(t, err)
	assert.Equal(t, "ran in tools\n", string(out))
}

func TestACommandHidesATask(t *testing.T) {
	s := tell(t, "task.list.run = 'echo the task'\ntask.b = { run = 'true', aliases = 'version' }\n")
	assert.Contains(t, s.tugline("list").stdout, "  list\n")
	assert.Equal(t, "the task\n", s.tugline("run", "list").stdout)
	r := s.tugline("doctor")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.stderr, "tugline.toml:1:6: warning: \"list\" is the name of a command, which wins\n")
	assert.Contains(t, r.stderr, "^^^^ tugline run list reaches the task\n")
	assert.Contains(t, r.stderr, "tugline run version reaches the task\n")
}

func TestCompletion(t *testing.T) {
	s := tell(t, almanac)
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		r := s.tugline("completion", shell)
		assert.Equal(t, 0, r.code)
		assert.Contains(t, r.stdout, "tugline")
	}
	// "run" completes to tasks alone, the bare call to commands too.
	r := s.tugline("__complete", "run", "")
	assert.Regexp(t, `^clean\tDrop bad readings\nchart\tDraw\npage\nall\n:`, r.stdout)
	r = s.tugline("__complete", "-C", s.dir, "")
	assert.Contains(t, r.stdout, "doctor\t")
	assert.Contains(t, r.stdout, "chart\tDraw\n")
	s.write("tugline.toml", "broken = ")
	assert.NotContains(t, s.tugline("__complete", "run", "").stdout, "chart")
}

func TestCommandsBySystem(t *testing.T) {
	s := tell(t, "task.a.os.unix.run = 'echo unix'\ntask.a.run = 'echo any'\ntask.win.os.windows.run = 'dir'\ntask.all.needs = ['win']\n")
	assert.Equal(t, "unix\n", s.tugline("a").stdout)
	r := s.tugline("all")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, `task "win" has no commands for this system`)
}

func TestProjectFilesThatCannotBeRead(t *testing.T) {
	s := tell(t, "")
	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "tugline.toml"), 0o755))
	assert.Equal(t, result{2, "", "tugline: tugline.toml is a folder, not a project file\n"}, s.tugline("list"))
	assert.Equal(t, result{2, "", "tugline: there is no project file x.toml, or it is a link that leads nowhere\n"}, s.tugline("list", "--file", "x.toml"))
	require.NoError(t, os.Remove(filepath.Join(s.dir, "tugline.toml")))
	s.write("real/tugline.toml", "task.a.run = 'pwd'\n")
	require.NoError(t, os.Symlink("real/tugline.toml", filepath.Join(s.dir, "tugline.toml")))
	assert.Equal(t, s.dir+"\n", s.tugline("a").stdout, "the folder of the link is the project")
	if os.Getuid() != 0 {
		require.NoError(t, os.Chmod(filepath.Join(s.dir, "real/tugline.toml"), 0))
		assert.Equal(t, result{4, "", "tugline: the project file tugline.toml cannot be read: permission denied\n"}, s.tugline("list"))
	}
}

func TestADeepChainAndManyTasks(t *testing.T) {
	var b strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&b, "[task.t%d]\nrun = ':'\necho = false\n", i)
		if i > 0 {
			fmt.Fprintf(&b, "needs = ['t%d']\n", i-1)
		}
	}
	s := tell(t, b.String())
	r := s.tugline("t4999")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.stderr, "5000 ran in")
}

// Of many or long scripts only the first stay parsed until they run.
func TestLongScripts(t *testing.T) {
	comment := strings.Repeat("# the tide tables of the harbours\n", 3000)
	s := tell(t, "[task.a]\nrun = '''\n"+comment+"echo one'''\n[task.b]\nneeds = 'a'\nrun = ['echo two', 'echo three; false']\n")
	r := s.tugline("-q", "b")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stdout, "    two\n    three\n")
	assert.Contains(t, r.stderr, "tugline.toml:3006:33: task \"b\" failed\n")
	s.write("odd.toml", "[task.b]\nrun = ['''"+comment+"true''', 'coproc x']\n")
	assert.Contains(t, s.tugline("--file", "odd.toml", "b").stderr, "coproc", "all are checked before anything starts")
}

func TestNamesAtTheEdgeOfWhatIsAllowed(t *testing.T) {
	long := strings.Repeat("x", 300)
	s := tell(t, "[task.'"+long+"']\nrun = 'echo long'\n[task.0]\nrun = 'echo zero'\n[task.'größe_港-1']\nrun = 'echo wide'\n[task._]\nrun = 'echo under'\n")
	for name, want := range map[string]string{long: "long", "0": "zero", "größe_港-1": "wide", "_": "under"} {
		assert.Equal(t, want+"\n", s.tugline(name).stdout)
	}
	screen, _ := s.terminal(40, long, "0", "größe_港-1", "--color", "never")
	assert.Contains(t, screen, "xxxxx…xxxx · long\r\n", "a quarter of the width")
	assert.Contains(t, screen, "größe_港-1 · wide")
}

func TestMessagesOfAFailedCommand(t *testing.T) {
	tests := []struct{ run, place, msg string }{
		{"if true; then awkk x; fi", "1:27", `command "awkk" not found on the PATH; did you mean "awk"`},
		{"sh -c 'kill -SEGV $$'", "1:13", "ended by SIGSEGV"},
		{"./no-such-tool", "1:13", `there is no file "./no-such-tool" to run`},
		{"cat <no-such-file", "1:13", "no-such-file: no such file or directory\n"},
		{"./dir", "1:13", `"./dir" is a folder, not a program`},
	}
	for _, test := range tests {
		t.Run(test.run, func(t *testing.T) {
			s := tell(t, fmt.Sprintf("task.a.run=%q\n", test.run))
			require.NoError(t, os.Mkdir(filepath.Join(s.dir, "dir"), 0o755))
			r := s.tugline("a")
			assert.Equal(t, 1, r.code)
			assert.Contains(t, r.stderr, "tugline.toml:"+test.place+": task \"a\" failed\n")
			assert.Contains(t, r.stderr, test.msg)
		})
	}
}

func TestLivePartIsGoneAtTheEnd(t *testing.T) {
	s := tell(t, almanac+"[task.wait]\nrun = 'echo x >waiting; while ! test -e go; do sleep 0.01; done'\n[task.two]\nneeds = ['wait', 'clean']\n")
	done := make(chan string)
	go func() {
		screen, _ := s.terminal(80, "two", "-j", "2", "--color", "never")
		done <- screen
	}()
	s.waitForFile("waiting")
	s.write("go", "x")
	screen := <-done
	last := screen[strings.LastIndex(screen, "\x1b[J")+len("\x1b[J"):]
	assert.NotRegexp(t, `\d running`, last)
	assert.Contains(t, last, "2 ran in")
}

func TestCtrlCOnATerminal(t *testing.T) {
	s := tell(t, "[task.a]\nneeds = ['b']\nrun = 'echo $$ >/dev/null; sh -c \"echo x >ready; exec sleep 1000\"'\n[task.b]\nrun = 'true'\n[task.all]\nneeds = ['a', 'b']\n")
	cmd := s.command("all", "-j", "2", "--color", "never")
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 30, Cols: 80})
	require.NoError(t, err)
	defer tty.Close()
	read := make(chan string)
	go func() {
		screen, _ := io.ReadAll(tty) // ends with an error when the other side is closed
		read <- string(screen)
	}()
	s.waitForFile("ready")
	_, err = tty.WriteString("\x03")
	require.NoError(t, err)
	screen := <-read
	assert.Equal(t, 130, exitCode(t, cmd.Wait()))
	last := screen[strings.LastIndex(screen, "\x1b[J")+len("\x1b[J"):]
	assert.NotContains(t, last, "running")
	assert.Regexp(t, `1 ran, 1 stopped in`, last)
}
