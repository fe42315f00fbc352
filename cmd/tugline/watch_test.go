//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"math/rand"
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

// watching is a watch that goes on in a story.
type watching struct {
	*story
	cmd *exec.Cmd
	log string // the file with all that it prints
}

// watch starts a watch of a story.
func (s *story) watch(args ...string) *watching {
	s.t.Helper()
	w := &watching{story: s, cmd: s.command(append([]string{"watch"}, args...)...), log: filepath.Join(s.t.TempDir(), "log")}
	out, err := os.Create(w.log)
	require.NoError(s.t, err)
	w.cmd.Stdout, w.cmd.Stderr = out, out
	require.NoError(s.t, w.cmd.Start())
	out.Close()
	s.t.Cleanup(func() {
		if w.cmd.ProcessState == nil {
			w.cmd.Process.Kill()
			w.cmd.Wait()
		}
		if s.t.Failed() {
			s.t.Log(w.printed())
		}
	})
	return w
}

// end interrupts the watch.
func (w *watching) end() {
	w.t.Helper()
	require.NoError(w.t, w.cmd.Process.Signal(os.Interrupt))
	assert.Equal(w.t, 130, exitCode(w.t, w.cmd.Wait()))
}

func (w *watching) printed() string {
	text, err := os.ReadFile(w.log)
	require.NoError(w.t, err)
	return string(text)
}

// until waits until something holds.
func (s *story) until(what string, holds func() bool) {
	s.t.Helper()
	tick := time.NewTicker(2 * time.Millisecond)
	defer tick.Stop()
	late := time.After(time.Minute)
	for !holds() {
		select {
		case <-tick.C:
		case <-late:
			require.Fail(s.t, "it never came to this", what)
		}
	}
}

// rounds waits until so many rounds were shown, the first run among them, and the
// watch waits. It returns what was printed of the last one.
func (w *watching) rounds(n int) string {
	w.t.Helper()
	const waits = "waiting for changes\n"
	w.until(fmt.Sprintf("%d rounds", n), func() bool { return strings.Count(w.printed(), waits) == n })
	all := strings.Split(w.printed(), waits)
	return all[n-1]
}

// holds reports whether a file holds a text.
func (s *story) holds(name, text string) bool {
	got, _ := os.ReadFile(filepath.Join(s.dir, name)) // not there yet
	return string(got) == text
}

func TestAWatchRunsWhatAChangeTouches(t *testing.T) {
	s := tell(t, `
[task.up]
reads = "src/**"
writes = "out/up"
run = 'cat src/*.txt | tr a-z A-Z >out/up'
[task.other]
reads = "other"
run = 'echo checked'
[task.log]
needs = ["up"]
run = 'echo "$TUGLINE_CHANGED" | tr "\n" " " >>log'
[task.also]
watch_also = "*.note"
reads = "other"
run = 'echo also >>also'
[task.all]
needs = ["log", "other", "also"]
`)
	s.write("src/a.txt", "one\n")
	s.write("other", "")
	w := s.watch("all")
	w.rounds(1)
	s.write("src/a.txt", "two\n")
	last := w.rounds(2)
	assert.Regexp(t, `(?s)^\nchanged: src/a.txt\nran +up +.* src/a.txt changed\n.*ran +log .*\n2 ran in [^,]*\n$`, last)
	assert.NotContains(t, last, "other", "what has not changed says nothing")
	assert.Equal(t, "TWO\n", s.read("out/up"))

	s.write("src/a.txt", "two\n") // saved without a change: nothing is said
	s.write("x.note", "1")
	assert.Regexp(t, `(?s)^\nchanged: (src/a.txt, )?x.note\nran +also .* a file of watch_also changed\n`, w.rounds(3))

	for _, name := range []string{"b", "c", "d", "e"} {
		s.write("src/deep/"+name+"/f.txt", name)
	}
	assert.Contains(t, w.rounds(4), "changed: src/deep/b/f.txt, src/deep/c/f.txt, src/deep/d/f.txt and 1 more\n")
	assert.Equal(t, "src/a.txt src/deep/b/f.txt src/deep/c/f.txt src/deep/d/f.txt src/deep/e/f.txt ", strings.TrimLeft(s.read("log"), " "))
	s.write("out/up", "by hand\n")
	s.write("src/a.txt", "three\n")
	w.rounds(5)
	assert.Equal(t, "THREE\n", s.read("out/up"))
	w.end()

	runs := s.tugline("runs").stdout
	assert.Equal(t, 5, strings.Count(runs, "watch all"), "each round that did something is recorded\n"+runs)
}

// randomSaves changes files of a story in all the ways in which people and programs
// do, now and then without a pause.
type randomSaves struct {
	*story
	rand *rand.Rand
}

func (r *randomSaves) save(i int) {
	name := fmt.Sprintf("src/%c/%c.txt", 'a'+r.rand.Intn(4), 'a'+r.rand.Intn(4))
	text := fmt.Sprintf("line %d of %d\n", i, r.rand.Intn(3))
	path := filepath.Join(r.dir, name)
	switch r.rand.Intn(10) {
	case 0: // save by renaming
		r.write(name+".new", text)
		require.NoError(r.t, os.Rename(path+".new", path))
	case 1: // truncate, write in two pieces
		r.write(name, "")
		r.write(name, text)
	case 2:
		os.Remove(path) // it may not be there
	case 3: // a folder goes, and comes back
		require.NoError(r.t, os.RemoveAll(filepath.Dir(path)))
		r.write(name, text)
	case 4: // a folder gets another name
		to := filepath.Join(r.dir, "src", fmt.Sprintf("m%d", r.rand.Intn(3)))
		require.NoError(r.t, os.RemoveAll(to))
		os.Rename(filepath.Dir(path), to) // it may not be there
	case 5: // another branch: many files at once
		for k := range 150 {
			r.write(fmt.Sprintf("src/branch/%d/%d.txt", k%7, k), fmt.Sprintf("%d %d\n", i%3, k))
		}
		require.NoError(r.t, os.RemoveAll(filepath.Join(r.dir, "src/branch", fmt.Sprint(r.rand.Intn(7)))))
	default:
		r.write(name, text)
	}
}

// The saves come at odd times, during rounds, too. After each pause the outputs are
// what a clean run makes.
func TestAWatchIsNeverDeaf(t *testing.T) {
	for name, args := range map[string][]string{"system": nil, "poll": {"--poll", "20ms"}, "stop": {"--mid-round", "stop"}} {
		t.Run(name, func(t *testing.T) {
			s := tell(t, `
[task.list]
reads = "src/**/*.txt"
writes = "out/list"
run = 'find src -name "*.txt" | LC_ALL=C sort | xargs cat >out/list; read x <slow || true'
[task.sum]
reads = "out/list"
writes = "out/sum"
run = 'cksum <out/list >out/sum'
`)
			s.write("src/a/a.txt", "first\n")
			s.write("slow", "")
			saves := &randomSaves{s, rand.New(rand.NewSource(int64(len(name))))}
			w := s.watch(append(args, "sum")...)
			for i := range 300 {
				saves.save(i)
				if saves.rand.Intn(4) == 0 { // let some time pass, more or less
					s.tugline("list")
				}
				if i%25 != 24 {
					continue
				}
				all, err := exec.Command("sh", "-c", `cd "$1"; find src -name '*.txt' | LC_ALL=C sort | xargs cat`, "-", s.dir).Output()
				require.NoError(t, err)
				s.until(fmt.Sprintf("the list after save %d", i), func() bool { return s.holds("out/list", string(all)) })
				sum := exec.Command("cksum")
				sum.Stdin = strings.NewReader(string(all))
				want, err := sum.Output()
				require.NoError(t, err)
				s.until(fmt.Sprintf("the sum after save %d", i), func() bool { return s.holds("out/sum", string(want)) })
			}
			w.end()
		})
	}
}

func TestAWatchTakesOverTheProjectFile(t *testing.T) {
	project := `
env_file = ".env"
[env]
X = { default = "0" }
[task.a]
run = 'echo "a $X" >a'
`
	s := tell(t, project)
	s.write(".env", "X=1\n")
	w := s.watch("a")
	w.rounds(1)
	assert.Equal(t, "a 1\n", s.read("a"))
	s.write(".env", "X=2\n")
	w.rounds(2)
	assert.Equal(t, "a 2\n", s.read("a"))

	s.write("tugline.toml", "[task.a")
	assert.Contains(t, w.rounds(3), "tugline.toml:1:")
	s.write(".env", "X=3\n") // the old one stays in force
	w.rounds(4)
	assert.Equal(t, "a 3\n", s.read("a"))

	s.write("tugline.toml", strings.ReplaceAll(project, "task.a", "task.b"))
	assert.Contains(t, w.rounds(5), `there is no task "a"`)
	s.write(".env", "X=4\n")
	w.rounds(6)
	assert.Equal(t, "a 4\n", s.read("a"))
	s.write("tugline.toml", strings.ReplaceAll(project, "echo", "echo new"))
	w.rounds(7)
	assert.Equal(t, "new a 4\n", s.read("a"))
	s.write(".env", "X")
	s.until("the warning", func() bool { return strings.Contains(w.printed(), "what it held before stays in force") })
	w.end()
}

// A new default is watched, and what a failure left is tried again.
func TestAWatchOfTheDefault(t *testing.T) {
	s := tell(t, `
default = "a"
[task.a]
reads = "in"
run = 'grep good in'
[task.b]
reads = "in"
writes = "b"
run = 'cp in b'
`)
	s.write("in", "bad\n")
	w := s.watch()
	assert.Contains(t, w.rounds(1), "1 failed in")
	s.write("in", "good\n")
	assert.Contains(t, w.rounds(2), "1 ran in")
	s.write("tugline.toml", strings.Replace(s.read("tugline.toml"), `default = "a"`, `default = "b"`, 1))
	s.until("the new default", func() bool { return s.holds("b", "good\n") })
	w.end()
}

func TestATaskThatChangesWhatItReadsIsStopped(t *testing.T) {
	s := tell(t, `
[task.grow]
reads = "in"
run = 'echo more >>in; echo x >>runs'
[task.fine]
reads = "other"
run = 'cat other'
`)
	s.write("in", "1\n")
	s.write("other", "1\n")
	w := s.watch("--after-failure", "continue", "grow", "fine")
	s.until("the note", func() bool { return strings.Contains(w.printed(), "in changed during three rounds in a row") })
	assert.Equal(t, "x\nx\nx\n", s.read("runs"))
	s.write("other", "2\n")
	s.until("another change is heard", func() bool { return strings.Contains(w.printed(), "changed: other") })
	w.end()
}

func TestARoundIsStoppedByAChange(t *testing.T) {
	s := tell(t, `
[task.slow]
reads = "in"
writes = "out"
run = 'cp in out; test "$(cat in)" != slow || { echo $$ >pid; sleep 1000; }'
`)
	s.write("in", "slow")
	w := s.watch("--mid-round", "stop", "slow")
	s.waitForFile("pid")
	s.write("in", "quick")
	s.until("the second round", func() bool { return s.holds("out", "quick") && strings.HasSuffix(w.printed(), "waiting for changes\n") })
	assert.Contains(t, w.printed(), "1 stopped in")
	w.end()
}

func TestEventsCanBeFollowed(t *testing.T) {
	s := tell(t, `
[task.up]
reads = "in"
writes = "out"
run = 'cat in; cp in out; test "$(cat in)" != bad'
`)
	s.write("in", "one")
	w := s.watch("--events", "events", "up")
	w.rounds(1)
	s.write("in", "bad")
	w.rounds(2)
	w.end()
	var got []string
	for _, line := range strings.Split(strings.TrimSpace(s.read("events")), "\n") {
		var e struct {
			Kind, Run         string
			Step, State, Text *string
			ExitCode          *int `json:"exit_code"`
		}
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		assert.NotEmpty(t, e.Run)
		text := e.Kind
		for _, field := range []*string{e.Step, e.State, e.Text} {
			if field != nil {
				text += " " + *field
			}
		}
		if e.ExitCode != nil {
			text += fmt.Sprint(" ", *e.ExitCode)
		}
		if last := len(got) - 1; e.Kind == "step.output" && strings.HasPrefix(got[last], e.Kind) {
			got[last] += *e.Text // it comes in any pieces
			continue
		}
		got = append(got, text)
	}
	assert.Equal(t, []string{
		"run.started", "step.started up", "step.output up one", "step.finished up ran 0", "run.finished ran",
		"watch.change in", "run.started", "step.started up", "step.output up bad", "step.finished up failed 1", "run.finished failed",
	}, got)
}

func TestAWatchThatIsKilledLeavesNothing(t *testing.T) {
	s := tell(t, `
[task.slow]
reads = "in"
run = 'echo $$ >/dev/null; sh -c "echo \$\$ >pid; exec sleep 1000"'
`)
	s.write("in", "1")
	w := s.watch("slow")
	s.waitForFile("pid")
	require.NoError(t, w.cmd.Process.Signal(syscall.SIGKILL))
	w.cmd.Wait() // it was killed
	s.eventuallyGone("pid")
}

func TestWrongUseOfAWatch(t *testing.T) {
	s := tell(t, "[task.a]\nrun = 'true'\n")
	for _, c := range []struct {
		words string
		want  string
	}{
		{"watch", "tugline: tugline watch needs a task: the project has no default\n"},
		{"watch b", "tugline: there is no task \"b\"\n"},
		{"watch --mid-round now a", "tugline: --mid-round must be finish or stop, not \"now\"\n"},
		{"watch --poll 1 a", "tugline: --poll takes a duration such as 50ms or 2s, not \"1\"\n"},
		{"watch --poll 0s a", "tugline: --poll must be at least 10ms, not 0s\n"},
	} {
		got := s.tugline(strings.Fields(c.words)...)
		assert.Equal(t, 2, got.code, c.words)
		assert.True(t, strings.HasPrefix(got.stderr, c.want), got.stderr)
	}
}

// A file that goes while a round runs is heard, though the round looked for it itself
// and left nothing else behind.
func TestAFileThatGoesDuringARoundIsHeard(t *testing.T) {
	s := tell(t, `
[task.list]
reads = "in/*"
writes = "out/list"
run = 'ls in >out/list'
[task.slow]
needs = ["list"]
reads = ["s", "in/*"]
writes = "out/slow"
run = 'echo same >out/slow; echo >here; read x <go'
[task.end]
reads = "out/slow"
run = "true"
`)
	require.NoError(t, mkfifo(filepath.Join(s.dir, "go")))
	require.NoError(t, mkfifo(filepath.Join(s.dir, "here")))
	for _, name := range []string{"s", "in/a", "in/b"} {
		s.write(name, "1")
	}
	w := s.watch("end")
	s.read("here")
	s.write("go", "\n")
	w.rounds(1)
	s.write("s", "2")
	s.read("here")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "in/b")))
	s.write("go", "\n")
	s.read("here") // of the next round
	s.write("go", "\n")
	s.until("the list", func() bool { return s.holds("out/list", "a\n") })
	w.end()
}

// Files outside the project are heard, and those behind links.
func TestAWatchHearsWhatLiesElsewhere(t *testing.T) {
	s := tell(t, "")
	s.write("shared/words.txt", "one")
	s.write("real/data.txt", "one")
	s.write("work/project/tugline.toml", `
[task.a]
reads = ["../../shared/*.txt", "link/data.txt", "single"]
writes = "out"
run = 'cat ../../shared/*.txt link/data.txt single >out'
`)
	top := s.dir
	s.dir = filepath.Join(s.dir, "work/project")
	require.NoError(t, os.Symlink("../../real", filepath.Join(s.dir, "link")))
	require.NoError(t, os.Symlink("../../real/data.txt", filepath.Join(s.dir, "single")))
	w := s.watch("a")
	w.rounds(1)
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(top, name), []byte(text), 0o644))
	}
	write("shared/words.txt", "two")
	s.until("the file outside", func() bool { return s.holds("out", "twooneone") })
	write("shared/more.txt", "!")
	s.until("a new one", func() bool { return s.holds("out", "!twooneone") })
	write("real/data.txt", "2")
	s.until("behind links", func() bool { return s.holds("out", "!two22") })
	w.end()
}

// On a terminal, single keys tell a watch what to do.
func TestKeysOfAWatch(t *testing.T) {
	s := tell(t, "[task.a]\nreads = 'in'\nwrites = 'out'\nrun = 'cp in out; echo x >>runs'\n")
	s.write("in", "one")
	s.env = append(s.env, "NO_COLOR=1")
	cmd := s.command("watch", "a")
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 30, Cols: 100})
	require.NoError(t, err)
	defer tty.Close()
	screen := make(chan string)
	go func() {
		defer close(screen)
		buf := make([]byte, 4096)
		for {
			n, err := tty.Read(buf)
			if err != nil {
				return
			}
			screen <- string(buf[:n])
		}
	}()
	seen := "" // and not waited for yet
	until := func(want string) {
		t.Helper()
		for {
			if _, rest, found := strings.Cut(seen, want); found {
				seen = rest
				return
			}
			text, open := <-screen
			require.True(t, open, "%q, not %q", seen, want)
			seen += text
		}
	}
	press := func(key string) {
		_, err := tty.WriteString(key)
		require.NoError(t, err)
	}
	until("(r run again, a run all, p pause, c clear, q quit)")
	press("a")
	until("1 ran in")
	until("waiting for changes")
	press("p")
	until("paused  (r run again, a run all, p go on")
	s.write("in", "two")
	press("p")
	until("changed: in")
	until("waiting for changes")
	press("c")
	until("\x1b[2J")
	press("q")
	for range screen {
	}
	assert.Zero(t, exitCode(t, cmd.Wait()))
	assert.Equal(t, "x\nx\nx\n", s.read("runs"))
	assert.Equal(t, "two", s.read("out"))
}
