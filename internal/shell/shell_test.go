//go:build unix

package shell

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func Example() {
	program, _ := Parse(`for port in merrowick saltreach; do echo "$port"; done; exit 3`)
	err := run(context.Background(), Command{
		Program: program, Dir: "/", Env: os.Environ(),
		Output: func(p []byte) { fmt.Printf("%s", p) },
	})
	fmt.Println(err)
	// Output:
	// merrowick
	// saltreach
	// exit code 3
}

// command makes a command of script that runs in a temporary folder.
func command(t *testing.T, script string) Command {
	t.Helper()
	program, problems := Parse(script)
	require.Empty(t, problems)
	return Command{Program: program, Dir: t.TempDir(), Env: os.Environ(), Grace: time.Minute}
}

// output runs cmd and returns what it printed, with a mark «…» for each statement.
func output(ctx context.Context, cmd Command, script string) (string, error) {
	var out bytes.Buffer
	cmd.Output = func(p []byte) { out.Write(p) }
	cmd.Statement = func(s Stretch) { fmt.Fprintf(&out, "«%s»", script[s.Offset:s.Offset+s.Length]) }
	err := run(ctx, cmd)
	return out.String(), err
}

func TestRun(t *testing.T) {
	tests := []struct {
		name, script, out string
		where, err        string // the part of the script that failed, and how
	}{
		{"statements in order", "echo a; echo b >&2\nprintf c", "«echo a»a\n«echo b >&2»b\n«printf c»c", "", ""},
		{"stops at the first failure", "echo a\nfalse\necho b", "«echo a»a\n«false»", "false", "exit code 1"},
		{"inside a loop", "for i in 1 2; do\n  (exit $i)\ndone", "«for i in 1 2; do\n  (exit $i)\ndone»", "exit $i", "exit code 1"},
		{"the command in a function", "f() { echo in; ls /no/such 2>&1 | cat >/dev/null; }\nf\necho no", "«f() { echo in; ls /no/such 2>&1 | cat >/dev/null; }»«f»in\n", "ls /no/such 2>&1", "exit code 2"},
		{"a failed stage of a pipeline", "sh -c 'exit 5' | cat", "«sh -c 'exit 5' | cat»", "sh -c 'exit 5'", "exit code 5"},
		{"conditions may fail", "false || echo a; if false; then :; fi; ! true || echo b; echo $?", "«false || echo a»a\n«if false; then :; fi»«! true || echo b»b\n«echo $?»0\n", "", ""},
		{"an unset variable", "echo $NOPE_NOPE", "«echo $NOPE_NOPE»NOPE_NOPE: unbound variable\n", "$NOPE_NOPE", `the variable "NOPE_NOPE" is not set`},
		{"an unset variable further in", "if true; then\n  echo a; x=1\n  echo $x ${NOPE}\nfi", "«if true; then\n  echo a; x=1\n  echo $x ${NOPE}\nfi»a\nNOPE: unbound variable\n", "${NOPE}", `the variable "NOPE" is not set`},
		{"a division by zero", "n=0\nif true; then\n  echo a; echo $((1/n)); echo b\nfi", "«n=0»«if true; then\n  echo a; echo $((1/n)); echo b\nfi»a\ndivision by zero\n", "if true; then\n  echo a; echo $((1/n)); echo b\nfi", "division by zero"},
		{"a value that is no number", "x=abc-; echo $((x + 1))", "«x=abc-»«echo $((x + 1))»x: \"abc-\" is no number\n", "echo $((x + 1))", "x: \"abc-\" is no number"},
		{"an unset variable that did no harm", "x=$(echo $NOPE) || true; false", "«x=$(echo $NOPE) || true»NOPE: unbound variable\n«false»", "false", "exit code 1"},
		{"a missing command", "if true; then no-such-command x; fi", "«if true; then no-such-command x; fi»command \"no-such-command\" not found on the PATH\n", "no-such-command x", `command "no-such-command" not found on the PATH`},
		{"a missing file to run", "./no-such", "«./no-such»there is no file \"./no-such\" to run\n", "./no-such", `there is no file "./no-such" to run`},
		{"a signal", "sh -c 'kill -KILL $$'", "«sh -c 'kill -KILL $$'»", "sh -c 'kill -KILL $$'", "ended by SIGKILL"},
		{"a closed pipe is no failure", "tr '\\0' y </dev/zero | head -c 1", "«tr '\\0' y </dev/zero | head -c 1»y", "", ""},
		{"a closed pipe is no failure for shell words", "while :; do echo y; done | head -1", "«while :; do echo y; done | head -1»y\n", "", ""},
		{"words, programs and words", "echo a; sh -c 'echo b; echo c >&2'\necho d >&2", "«echo a»a\n«sh -c 'echo b; echo c >&2'»b\nc\n«echo d >&2»d\n", "", ""},
		{"many words", "seq() { printf %s $1; if [ $1 -lt 40 ]; then seq $(($1 + 1)); fi; }\nseq 1\nsh -c 'printf x'\nprintf y", "«seq() { printf %s $1; if [ $1 -lt 40 ]; then seq $(($1 + 1)); fi; }»«seq 1»" +
			"12345678910111213141516171819202122232425262728293031323334353637383940«sh -c 'printf x'»x«printf y»y", "", ""},
		{"exit ends it", "echo a; exit 4; echo b", "«echo a»a\n«exit 4»", "exit 4", "exit code 4"},
		{"an exit trap runs", "trap 'echo bye' EXIT\necho a", "«trap 'echo bye' EXIT»«echo a»a\nbye\n", "", ""},
		{"an exit trap runs after a failure", "trap 'echo bye' EXIT\nfalse\necho a", "«trap 'echo bye' EXIT»«false»bye\n", "false", "exit code 1"},
		{"an assignment in the last stage stays there", "x=1; echo 2 | read x; echo $x", "«x=1»«echo 2 | read x»«echo $x»1\n", "", ""},
		{"an exit in the last stage stays there", "echo a | while read x; do exit 0; done; echo b", "«echo a | while read x; do exit 0; done»«echo b»b\n", "", ""},
		{"the stream by its name", "echo a >/dev/stdout; echo b >/dev/stderr; sh -c 'echo c' >/dev/stdout", "«echo a >/dev/stdout»a\n«echo b >/dev/stderr»b\n«sh -c 'echo c' >/dev/stdout»c\n", "", ""},
		{"jobs in the background are waited for", "mkfifo go\nsh -c 'read x <go; echo late' &\necho x >go", "«mkfifo go»«sh -c 'read x <go; echo late' &»«echo x >go»late\n", "", ""},
		{"what a program leaves behind is waited for", "mkfifo go\nsh -c '(read x <go; echo late) & '\necho x >go\necho now >/dev/null", "«mkfifo go»«sh -c '(read x <go; echo late) & '»«echo x >go»«echo now >/dev/null»late\n", "", ""},
		{"nothing to read", "cat; read x || echo empty", "«cat»«read x || echo empty»empty\n", "", ""},
		{"a script without an interpreter line", "printf 'echo hi $1\\n' >s; chmod +x s; ./s you", "«printf 'echo hi $1\\n' >s»«chmod +x s»«./s you»hi you\n", "", ""},
		{"zero bytes pass", `printf 'a\0b\n' | cat`, `«printf 'a\0b\n' | cat»` + "a\x00b\n", "", ""},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			out, err := output(t.Context(), command(t, test.script), test.script)
			if strings.Contains(test.name, "background") || strings.Contains(test.name, "leaves behind") {
				// The late line comes at a time of its own.
				assert.Contains(t, out, "late\n")
				out = strings.ReplaceAll(out, "late\n", "") + "late\n"
			}
			assert.Equal(t, test.out, out)
			if test.err == "" {
				require.NoError(t, err)
				return
			}
			assert.EqualError(t, err, test.err)
			var exit *ExitError
			require.ErrorAs(t, err, &exit)
			assert.Equal(t, test.where, test.script[exit.Where.Offset:exit.Where.Offset+exit.Where.Length])
		})
	}
}

func TestParseFindsWhatIsWrong(t *testing.T) {
	tests := []struct{ script, at, msg string }{
		{"echo hi\nif true; then\n echo \"\nfi\n", "\"\nfi\n", "reached EOF without closing quote `\"`"},
		{"for x; do", "for x; do", "`for foo [in words]` must be followed by `do`"},
		{"(", "(", "reached EOF without matching `(` with `)`"},
	}
	for _, test := range tests {
		t.Run(test.script, func(t *testing.T) {
			_, problems := Parse(test.script)
			require.NotEmpty(t, problems)
			assert.True(t, strings.HasPrefix(test.script[problems[0].Offset:], test.at) || test.script[problems[0].Offset:] != "", "%+v", problems[0])
			assert.NotEmpty(t, problems[0].Msg)
		})
	}
}

func TestInterpreter(t *testing.T) {
	there := func(name string) (string, error) {
		if strings.Contains(name, "missing") {
			return "", errors.New("not found")
		}
		if filepath.IsAbs(name) {
			return name, nil
		}
		return "/bin/" + name, nil
	}
	tests := []struct {
		script string
		shell  []string
		want   []string
		err    string
	}{
		{"echo", nil, nil, ""},
		{"echo", []string{"bash"}, []string{"/bin/bash", "-eu", "-o", "pipefail"}, ""},
		{"echo", []string{"dash"}, []string{"/bin/dash", "-eu"}, ""},
		{"echo", []string{"bash", "-x"}, []string{"/bin/bash", "-x"}, ""},
		{"echo", []string{"python3", "-u"}, []string{"/bin/python3", "-u"}, ""},
		{"#!/usr/bin/env python3\nx", []string{"bash"}, []string{"/bin/python3"}, ""},
		{"#! /usr/bin/env -S awk -f\nx", nil, []string{"/bin/awk", "-f"}, ""},
		{"#!/opt/tool  two words \nx", nil, []string{"/opt/tool", "two words"}, ""},
		{"#!/usr/bin/env missing\nx", nil, nil, `interpreter "missing" not found`},
		{"x", []string{"missing"}, nil, `interpreter "missing" not found`},
	}
	for _, test := range tests {
		t.Run(test.script+fmt.Sprint(test.shell), func(t *testing.T) {
			got, err := Interpreter(test.script, test.shell, there)
			if test.err != "" {
				assert.EqualError(t, err, test.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, test.want, got)
		})
	}
}

func TestRunInterpreters(t *testing.T) {
	tests := []struct{ name, script, program, out, err string }{
		{"bash is strict", "echo a\nfalse | true\necho b", "bash", "a\n«false | true»", "exit code 1"},
		{"sh with words", `for w; do echo "[$w]"; done`, "sh", "[a b]\n[$(x)]\n", ""},
		{"an interpreter line", "#!/usr/bin/env awk -f\nBEGIN { print \"hi\"; exit 9 }", "", "hi\n", "exit code 9"},
		{"what bash leaves behind", "(while ! test -e go; do :; done; echo late) &\ntouch go", "bash", "«touch go»late\n", ""},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			var shell []string
			if test.program != "" {
				shell = []string{test.program}
			}
			script := strings.Replace(test.script, "env awk", "env -S awk", 1)
			dir := t.TempDir()
			args, err := Interpreter(script, shell, LookPath(os.Environ(), dir))
			require.NoError(t, err)
			cmd := Command{Args: args, Script: script, Dir: dir, Env: os.Environ(), Params: []string{"a b", "$(x)"}}
			out, err := output(t.Context(), cmd, script)
			assert.Equal(t, test.out, out[strings.Index(out, "»")+len("»"):])
			if test.err == "" {
				assert.NoError(t, err)
			} else {
				assert.EqualError(t, err, test.err)
			}
		})
	}
}

// byInterrupt is the cause of a context that a signal ended.
type byInterrupt struct{}

func (byInterrupt) Error() string     { return "interrupted" }
func (byInterrupt) Signal() os.Signal { return syscall.SIGINT }

// TestCancelEndsTheWholeTree starts a tree of processes, of which some would
// ignore the signal, and looks for survivors.
func TestCancelEndsTheWholeTree(t *testing.T) {
	tests := []struct {
		name, script string
		hard         bool // the polite signal does not do
	}{
		{"polite", `sh -c 'sh -c "echo \$\$ >>pids; echo ready; exec sleep 1000" & echo $$ >>pids; wait' | cat`, false},
		{"a trap answers", `sh -c 'trap "echo got it; exit 0" INT; echo $$ >>pids; echo ready; while :; do sleep 0.01; done'`, false},
		{"deaf", `sh -c 'trap "" INT TERM; sh -c "echo \$\$ >>pids; while :; do sleep 0.1; done" & echo $$ >>pids; echo ready; while :; do sleep 0.1; done'`, true},
		{"in the background", "sh -c 'echo $$ >>pids; echo ready; exec sleep 1000' &\nwait", false},
		{"left behind", "sh -c 'sleep 1000 & echo $! >>pids'; echo ready", false},
		{"a pipe that nobody opens", "touch pids; mkfifo p; echo ready; echo x >p", false},
		{"an endless loop of shell words", "echo $$ >/dev/null; touch pids; echo ready; while :; do :; done", false},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			cmd := command(t, test.script)
			kill := make(chan struct{})
			cmd.Kill = kill
			ctx, cancel := context.WithCancelCause(t.Context())
			var out bytes.Buffer
			cmd.Output = func(p []byte) {
				out.Write(p)
				if strings.Contains(out.String(), "ready") && ctx.Err() == nil {
					cancel(byInterrupt{})
					if test.hard {
						close(kill) // as the second interrupt does
					}
				}
			}
			err := run(ctx, cmd)
			assert.ErrorIs(t, err, byInterrupt{})
			pids, err := os.ReadFile(filepath.Join(cmd.Dir, "pids"))
			require.NoError(t, err)
			for _, word := range strings.Fields(string(pids)) {
				pid, err := strconv.Atoi(word)
				require.NoError(t, err)
				assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "process %d is alive", pid)
			}
			if test.name == "a trap answers" {
				assert.Contains(t, out.String(), "got it")
			}
		})
	}
}

// The job goes on only once it was told that the script waits for it.
func TestRunTellsThatItWaits(t *testing.T) {
	for _, script := range []string{"mkfifo go; sh -c '(read x <go) &'", "mkfifo go; sh -c 'read x <go' &"} {
		told := 0
		cmd := command(t, script)
		cmd.Waiting = func() {
			told++
			require.NoError(t, os.WriteFile(filepath.Join(cmd.Dir, "go"), []byte("x\n"), 0))
		}
		require.NoError(t, run(t.Context(), cmd))
		assert.Equal(t, 1, told, script)
	}
	cmd := command(t, "sh -c true; :")
	cmd.Waiting = func() { assert.Fail(t, "there is nothing to wait for") }
	require.NoError(t, run(t.Context(), cmd))
}

func TestFilesAreHandedOverAsTheyAre(t *testing.T) {
	cmd := command(t, "sh -c 'cat; echo to stderr >&2'; echo done")
	files := map[string]*os.File{}
	for _, name := range []string{"in", "out", "err"} {
		path := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(path, []byte("text\n"), 0o644))
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(t, err)
		defer f.Close()
		files[name] = f
	}
	require.NoError(t, files["out"].Truncate(0))
	require.NoError(t, files["err"].Truncate(0))
	cmd.Stdin, cmd.Stdout, cmd.Stderr = files["in"], files["out"], files["err"]
	require.NoError(t, run(t.Context(), cmd))
	for name, want := range map[string]string{"out": "text\ndone\n", "err": "to stderr\n"} {
		got, err := os.ReadFile(files[name].Name())
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
}

func TestProgramsKnowTheirFolder(t *testing.T) {
	for _, script := range []string{`awk 'BEGIN { print ENVIRON["PWD"] }'`, `x=1; awk 'BEGIN { print ENVIRON["PWD"] }'`} { // without a shell, and with one
		cmd := command(t, script)
		cmd.Env = append(cmd.Env, "PWD=/somewhere/else")
		out, err := output(t.Context(), cmd, script)
		require.NoError(t, err)
		assert.Equal(t, cmd.Dir+"\n", out[strings.LastIndex(out, "»")+len("»"):])
	}
}

func TestRunNeedsItsFolder(t *testing.T) {
	cmd := command(t, "true")
	cmd.Dir = filepath.Join(cmd.Dir, "no", "such")
	assert.ErrorIs(t, run(t.Context(), cmd), ErrNoFolder)
}

// A process that left its group is ended with its own session.
func TestASessionEndsWhatIsItsOwn(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("only Linux gives orphans to anyone but init")
	}
	var sessions [2]*Session
	var pids [2]int
	for i := range sessions {
		mark := fmt.Sprintf("THIS_SESSION=%d-%d", os.Getpid(), i)
		sessions[i] = NewSession(nil, mark)
		cmd := command(t, "bash -c 'set -m; sleep 1000 >/dev/null 2>&1 & echo $! >pid'")
		require.NoError(t, sessions[i].Run(t.Context(), cmd))
		text, err := os.ReadFile(filepath.Join(cmd.Dir, "pid"))
		require.NoError(t, err)
		pids[i], err = strconv.Atoi(strings.TrimSpace(string(text)))
		require.NoError(t, err)
	}
	sessions[0].End(time.Minute)
	assert.ErrorIs(t, syscall.Kill(pids[0], 0), syscall.ESRCH)
	assert.NoError(t, syscall.Kill(pids[1], 0), "the other session's")
	sessions[1].End(time.Minute)
	assert.ErrorIs(t, syscall.Kill(pids[1], 0), syscall.ESRCH)
}

// run runs cmd in a session without a guard.
func run(ctx context.Context, cmd Command) error { return new(Session).Run(ctx, cmd) }

// FuzzSplit cuts a stream of output and marks at any place.
func FuzzSplit(f *testing.F) {
	f.Add([]byte("one\ntwo"), uint8(3), uint8(9))
	f.Add(token()[:7], uint8(1), uint8(2))
	f.Fuzz(func(t *testing.T, text []byte, cut, at uint8) {
		if bytes.Contains(text, token()) {
			t.Skip()
		}
		var got bytes.Buffer
		s := &stream{output: func(p []byte) { got.Write(p) }, statements: func(w Stretch) { fmt.Fprintf(&got, "<%d %d>", w.Offset, w.Length) }}
		middle := min(int(at), len(text))
		mark := append(bytes.Clone(token()), 0, 0, 0, 7, 0, 0, 0, 5)
		whole := bytes.Join([][]byte{text[:middle], mark, text[middle:]}, nil)
		var rest []byte
		for len(whole) > 0 {
			n := min(int(cut)+1, len(whole))
			rest = s.split(append(bytes.Clone(rest), whole[:n]...))
			whole = whole[n:]
		}
		got.Write(rest)
		assert.Equal(t, string(text[:middle])+"<7 5>"+string(text[middle:]), got.String())
	})
}

func TestMain(m *testing.M) {
	if _, err := exec.LookPath("bash"); err != nil {
		fmt.Println("these tests need bash")
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// A trap on a signal is run when the signal ends the script.
func TestTrapsOnSignals(t *testing.T) {
	dir := t.TempDir()
	script := "name=lock; trap 'rm \"$name\"; echo caught' INT TERM\ntouch $name started\nsleep 60\necho never"
	program, problems := Parse(script)
	require.Empty(t, problems)
	ctx, cancel := context.WithCancelCause(t.Context())
	go func() {
		for {
			if _, err := os.Stat(filepath.Join(dir, "started")); err == nil {
				cancel(byInterrupt{})
				return
			}
			runtime.Gosched()
		}
	}()
	out, err := output(ctx, Command{Program: program, Script: script, Dir: dir, Env: os.Environ(), Grace: 10 * time.Second}, script)
	assert.ErrorContains(t, err, "interrupted")
	assert.Contains(t, out, "caught\n")
	assert.NotContains(t, out, "never")
	assert.NoFileExists(t, filepath.Join(dir, "lock"))
}
