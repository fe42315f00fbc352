package output

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/engine"
	"tugline/internal/project"
)

func TestDiagnosticShowsTheExactPlace(t *testing.T) {
	tests := []struct{ name, text, want string }{
		{"a near name", "[task.page]\nneeds = [\"clean-reading\"]\n[task.clean-readings]\nrun = 'x'\n", `tugline.toml:2:10: task "page" needs "clean-reading", but there is no such task
    2 | needs = ["clean-reading"]
      |          ^^^^^^^^^^^^^^^ did you mean "clean-readings"?
`},
		{"a whole cycle", "[task.a]\nneeds = ['b']\n[task.b]\nneeds = ['a']\n", `tugline.toml:2:10: tasks need each other in a circle: a → b → a
    2 | needs = ['b']
      |          ^^^ "a" needs "b"
    4 | needs = ['a']
      |          ^^^ "b" needs "a"
`},
		{"tabs and wide characters before it", "task.a.env = {A='港',\tB = 1}\ntask.a.run='x'\n", `tugline.toml:1:26: "B" must be a string, not a whole number
    1 | task.a.env = {A='港', B = 1}
      |                           ^ put it in quotes: "1"
`},
		{"the end of the file", "title = ", "tugline.toml:1:8: expected value, not end of input\n    1 | title = \n      |        ^\n"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			_, err := project.Parse("/x/tugline.toml", "tugline.toml", []byte(test.text))
			assert.Equal(t, test.want, Diagnostics(err.(project.Diagnostics), Style{}))
		})
	}
}

func TestDiagnosticCutsLongLines(t *testing.T) {
	_, err := project.Parse("/x/tugline.toml", "tugline.toml", []byte("task.a.run = '"+strings.Repeat("x", 500)+"'\ntask.b.needs = ["+strings.Repeat("'a', ", 100)+"'zz']\n"))
	lines := strings.Split(Diagnostics(err.(project.Diagnostics), Style{}), "\n")
	assert.Less(t, len([]rune(lines[1])), 200)
	assert.Equal(t, strings.Index(lines[1], "'zz'"), strings.Index(lines[2], "^^^^")+len("…")-1)
}

// display shows events of a run of tasks named in words, in one mode.
func display(t *testing.T, cfg DisplayConfig, words string, events func(show func(name string, e engine.Event))) (string, *Display) {
	t.Helper()
	text := "task.group.needs = []\n"
	for _, w := range strings.Fields(words) {
		text += fmt.Sprintf("task.%s.run = 'x'\n", w)
	}
	pl := planOf(t, text, "group "+words)
	var out bytes.Buffer
	cfg.Err = &out
	if cfg.Out == nil {
		cfg.Out = &out
	}
	steps := engine.StepsOf(pl)
	d := NewDisplay(steps, cfg)
	events(func(name string, e engine.Event) {
		for _, s := range steps {
			if s.Name == name {
				e.Step, e.Result.Step = s, s
				d.Event(e)
			}
		}
	})
	return out.String(), d
}

func started() engine.Event { return engine.Event{Kind: engine.StepStarted} }
func printed(text string) engine.Event {
	return engine.Event{Kind: engine.StepOutput, Text: []byte(text)}
}
func statement(text string) engine.Event {
	return engine.Event{Kind: engine.StepCommand, Text: []byte(text)}
}
func finished(state engine.State, reason string) engine.Event {
	return engine.Event{Kind: engine.StepFinished, Result: engine.Result{State: state, Took: 1200 * time.Millisecond, Reason: reason}}
}

// aRun is two tasks that print at the same time, a failed one and a blocked one.
func aRun(show func(string, engine.Event)) {
	show("short", started())
	show("much-longer", started())
	show("short", statement("awk 'x\ny'"))
	show("short", printed("one\ntw"))
	show("much-longer", printed("10%\r100%\nwarn\x1b[31ming\x1b[0m\x1b[2K\n"))
	show("short", printed("o\nand no line end"))
	show("short", statement("echo"))
	show("short", printed("end"))
	show("much-longer", finished(engine.Ran, ""))
	show("group", finished(engine.Ran, ""))
	show("short", finished(engine.Failed, "exit code 3"))
	show("last", finished(engine.Blocked, `needs "short", which failed`))
}

func TestDisplayModes(t *testing.T) {
	tests := []struct {
		name string
		cfg  DisplayConfig
		want string
	}{
		{"lines", DisplayConfig{Mode: Lines}, `short       · » awk 'x …
short       · one
much-longer · 100%
much-longer · warning
short       · two
short       · and no line end
short       · » echo
ran        much-longer   1.20s
short       · end
failed     short         1.20s  exit code 3
blocked    last          1.20s  needs "short", which failed
`},
		{"blocks", DisplayConfig{Mode: Blocks}, `ran        much-longer   1.20s
    100%
    warning
failed     short         1.20s  exit code 3
    » awk 'x …
    one
    two
    and no line end
    » echo
    end
blocked    last          1.20s  needs "short", which failed
`},
		{"direct", DisplayConfig{Mode: Direct, Out: &bytes.Buffer{}}, "» awk 'x …\n» echo\n"},
		{"colours stay when they are wanted", DisplayConfig{Mode: Blocks, Quiet: true, Style: Style{Color: true}}, "warn\x1b[31ming\x1b[0m\x1b[0m\n"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			out, _ := display(t, test.cfg, "short much-longer last", aRun)
			if test.cfg.Style.Color {
				assert.Contains(t, out, test.want)
				return
			}
			assert.Equal(t, test.want, out)
		})
	}
}

func TestSummaryTellsOfFailures(t *testing.T) {
	var d *Display
	out, d := display(t, DisplayConfig{Mode: Blocks}, "short", func(show func(string, engine.Event)) {
		show("short", started())
		for i := range 20 {
			show("short", printed(fmt.Sprintf("line %d\n", i)))
		}
		show("short", finished(engine.Failed, "exit code 3"))
	})
	assert.Contains(t, out, "    line 0\n")
	var messages bytes.Buffer
	d.err = &messages
	step := &engine.Step{Name: "short", Task: "short", Works: true}
	for key := range d.steps {
		step.Index = key.index
	}
	failed := planOf(t, "task.group.needs = []\ntask.short.run = 'x'", "short").Steps[0].Task
	d.Summary(engine.Summary{
		Wall: 65 * time.Second, Busy: 3 * time.Minute,
		Results: []engine.Result{
			{Step: step, State: engine.Failed, Failure: &engine.Failure{Span: failed.Run[0].Span, Msg: "exit code 3", Hint: "try again"}},
			{Step: step, State: engine.Ran}, {Step: step, State: engine.Blocked}, {Step: step, State: engine.Ran},
		},
	}, Style{})
	assert.Equal(t, `
tugline.toml:2:18: task "short" failed
    2 | task.short.run = 'x'
      |                  ^^^ exit code 3; try again
      the last lines of its output:
      line 8
      line 9
      line 10
      line 11
      line 12
      line 13
      line 14
      line 15
      line 16
      line 17
      line 18
      line 19
      the same by hand: tugline show short --script

2 ran, 1 failed, 1 blocked in 1m05s, 1m55s saved by running in parallel
`, messages.String())
}

// A step's output is kept in memory up to a bound, then in a file that leaves
// nothing behind.
func TestBlocksOfAnySize(t *testing.T) {
	tmp := t.TempDir()
	t.Setenv("TMPDIR", tmp)
	line := strings.Repeat("x", 99) + "\n"
	out, d := display(t, DisplayConfig{Mode: Blocks}, "big", func(show func(string, engine.Event)) {
		show("big", started())
		for range 30000 {
			show("big", printed(line))
		}
		show("big", finished(engine.Ran, ""))
	})
	require.NoError(t, d.Err())
	assert.Equal(t, 30000, strings.Count(out, "    "+line))
	assert.Equal(t, 30001, strings.Count(out, "\n"))
	files, err := os.ReadDir(tmp)
	require.NoError(t, err)
	assert.Empty(t, files)
}

func TestALineWithoutEndIsBounded(t *testing.T) {
	out, _ := display(t, DisplayConfig{Mode: Lines}, "a", func(show func(string, engine.Event)) {
		show("a", started())
		for range 300 {
			show("a", printed(strings.Repeat("y", 10000)))
		}
	})
	assert.Greater(t, len(out), 2<<20)
}

// failingWriter fails with err.
type failingWriter struct{ err error }

func (w failingWriter) Write([]byte) (int, error) { return 0, w.err }

func TestDisplayKeepsTheErrorThatMatters(t *testing.T) {
	full := errors.New("no space left on device")
	for _, err := range []error{full, syscall.EPIPE} {
		_, d := display(t, DisplayConfig{Mode: Lines, Out: failingWriter{err}}, "a", func(show func(string, engine.Event)) {
			show("a", started())
			show("a", printed("x\n"))
		})
		if err == syscall.EPIPE {
			assert.NoError(t, d.Err()) // nobody reads: no reason to stop
		} else {
			assert.ErrorIs(t, d.Err(), full)
		}
	}
}

func TestClean(t *testing.T) {
	tests := []struct{ in, plain, colored string }{
		{"plain ünïcode", "plain ünïcode", "plain ünïcode"},
		{"a\tb", "a\tb", "a\tb"},
		{"10%\r20%\r30%", "30%", "30%"},
		{"\x1b[1;31mred\x1b[0m", "red", "\x1b[1;31mred\x1b[0m\x1b[0m"},
		{"\x1b[2J\x1b[Hgone\x07\x08", "gone", "gone"},
		{"\x1b]0;title\x07text", "text", "text"},
		{"\x1b]8;;http://x\x1b\\link\x1b]8;;\x1b\\", "link", "link"},
		{"cut \x1b[3", "cut ", "cut "},
		{"cut \x1b", "cut ", "cut "},
		{"bad \xff\xfe bytes", "bad \xff\xfe bytes", "bad \xff\xfe bytes"},
	}
	for _, test := range tests {
		t.Run(test.in, func(t *testing.T) {
			assert.Equal(t, test.plain, string(clean([]byte(test.in), false)))
			assert.Equal(t, test.colored, string(clean([]byte(test.in), true)))
		})
	}
}

// Lines are looked through eight bytes at once.
func TestControlsAreFoundWhereverTheyStand(t *testing.T) {
	for at := range 20 {
		for b := range 256 {
			line := []byte("größe: 123 m\xff\x80~ ok")[:20]
			line[at] = byte(b)
			assert.Equal(t, b < ' ' && b != '\t' || b == 0x7f, hasControl(line), "%q", line)
		}
	}
}

func TestDuration(t *testing.T) {
	for d, want := range map[time.Duration]string{
		3 * time.Millisecond: "0.00s", 1234 * time.Millisecond: "1.23s", 59 * time.Second: "59.0s",
		61 * time.Second: "1m01s", 3661 * time.Second: "1h01m",
	} {
		assert.Equal(t, want, duration(d))
	}
}

// What a sample env file says is what comes out when it is read.
func TestSampleEnvFileCanBeRead(t *testing.T) {
	p, err := project.Parse("/x/tugline.toml", "tugline.toml", []byte(`[env]
FIXED = "x"
PLAIN = { default = "plain", about = "One\ntwo" }
QUOTED = { must_be_set = true, example = "a 'b' \"c\" # d \\ e" }
DERIVED = { default = "$PLAIN/x" }
EMPTY = { must_be_set = true }
`))
	require.NoError(t, err)
	sample := SampleEnvFile(p)
	assert.True(t, strings.HasPrefix(sample, "# One\n# two\nPLAIN=plain\n"))
	settings, err := project.ParseEnvFile("sample", []byte(sample))
	require.NoError(t, err)
	assert.Equal(t, []string{"DERIVED=", "EMPTY=", "PLAIN=plain", `QUOTED=a 'b' "c" # d \ e`}, settings.Pairs)
}

func TestListAlignsNamesWithTheirArguments(t *testing.T) {
	p, err := project.Parse("/x/tugline.toml", "tugline.toml", []byte("[task.a]\nabout = 'first'\nargs.port = {}\nargs.day = {}\nrun = 'x'\n[task.'größe_港']\nabout = 'second'\nneeds = ['b', 'c']\n[task.b]\nrun = 'x'\n[task.c]\nrun = 'x'\n"))
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, List(&b, Listing{Base: p.File, Tasks: p.Tasks, Needs: true}, Style{}))
	assert.Equal(t, "  a --port --day   first\n  größe_港         second\n                   needs b, c\n  b\n  c\n", b.String())
}
