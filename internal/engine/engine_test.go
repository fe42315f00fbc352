package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/shell"
)

// planned plans the tasks named in words.
func planned(t *testing.T, text, words string) *plan.Plan {
	t.Helper()
	p, err := project.Parse("/almanac/tugline.toml", "tugline.toml", []byte(text))
	require.NoError(t, err)
	req := plan.Request{Env: os.Environ()}
	for _, w := range strings.Fields(words) {
		req.Calls = append(req.Calls, project.Call{Name: w})
	}
	pl, err := plan.New(p, req)
	require.NoError(t, err)
	return pl
}

// planOf plans the tasks named in words and makes their scripts ready.
func planOf(t *testing.T, text, words string) (*plan.Plan, *Scripts) {
	t.Helper()
	pl := planned(t, text, words)
	scripts, err := Prepare(pl)
	require.NoError(t, err)
	return pl, scripts
}

// fakeExec runs a script "NAME SECONDS [EXIT CODE]" by waiting in fake time.
func fakeExec(ctx context.Context, cmd shell.Command) error {
	var name string
	var seconds, code int
	fmt.Sscan(cmd.Script, &name, &seconds, &code)
	select {
	case <-time.After(time.Duration(seconds) * time.Second):
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	if code != 0 {
		return &shell.ExitError{Code: code, Where: shell.Stretch{Offset: 0, Length: len(name)}}
	}
	return nil
}

// run runs the plan in fake time and returns what happened, as
// "second event step", with the summary.
func run(ctx context.Context, pl *plan.Plan, scripts *Scripts, cfg Config) ([]string, Summary, error) {
	var log []string
	start := time.Now()
	cfg.Exec = fakeExec
	cfg.Sink = func(e Event) {
		line := fmt.Sprintf("%.0f %s", e.Time.Sub(start).Seconds(), e.Kind)
		if e.Step != nil {
			line += " " + e.Step.Name
		}
		if e.Kind == StepFinished {
			line = strings.TrimSuffix(line+" "+string(e.Result.State)+" "+e.Result.Reason, " ")
		}
		if e.Kind != StepActs {
			log = append(log, line)
		}
	}
	summary, err := Run(ctx, pl, scripts, cfg)
	return log, summary, err
}

const diamond = `
[task.base]
run = "base 1"
[task.left]
needs = ["base"]
run = ["left 2", "left 1"]
[task.right]
needs = ["base"]
run = "right 4"
[task.top]
needs = ["left", "right"]
run = "top 1"
[task.group]
needs = ["top", "base"]
`

func TestRunStartsWhatIsReadyUpToJobs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		pl, scripts := planOf(t, diamond, "group")
		log, summary, err := run(t.Context(), pl, scripts, Config{Jobs: 2})
		require.NoError(t, err)
		assert.Equal(t, []string{
			"0 run.started", "0 step.started base", "1 step.finished base ran",
			"1 step.started left", "1 step.started right", "4 step.finished left ran", "5 step.finished right ran",
			"5 step.started top", "6 step.finished top ran", "6 step.finished group ran", "6 run.finished",
		}, log)
		assert.Equal(t, 6*time.Second, summary.Wall)
		assert.Equal(t, 9*time.Second, summary.Busy)
		assert.Equal(t, 4, summary.Count(Ran))

		_, summary, _ = run(t.Context(), pl, scripts, Config{Jobs: 1})
		assert.Equal(t, 9*time.Second, summary.Wall)
	})
}

const failing = `
[task.bad]
run = ["bad 1", "bad 1 7", "never 1"]
[task.long]
run = "long 5"
[task.later]
run = "later 1"
[task.needy]
needs = ["bad"]
run = "needy 1"
[task.group]
needs = ["needy"]
[task.all]
needs = ["bad", "long", "later", "group"]
`

func TestAFailureStopsWhatHasNotStarted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		pl, scripts := planOf(t, failing, "all")
		log, summary, err := run(t.Context(), pl, scripts, Config{Jobs: 2})
		require.NoError(t, err)
		assert.Equal(t, []string{
			"0 run.started", "0 step.started bad", "0 step.started long",
			"2 step.finished bad failed exit code 7",
			`2 step.finished later stopped not started because "bad" failed`,
			`2 step.finished needy blocked needs "bad", which failed`,
			`2 step.finished group blocked needs "needy", which is blocked`,
			"5 step.finished long ran",
			`5 step.finished all blocked needs "bad", which failed`, "5 run.finished",
		}, log)
		failures := summary.Failures()
		require.Len(t, failures, 1)
		assert.Equal(t, "tugline.toml:3:18", failures[0].Failure.Span.String())
		assert.Equal(t, 3, failures[0].Failure.Span.Length())
		assert.Equal(t, 7, failures[0].Failure.Code)
	})
}

func TestTasksAskedForOneAfterTheOtherWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		pl, scripts := planOf(t, failing, "later long bad needy")
		log, _, err := run(t.Context(), pl, scripts, Config{Jobs: 4})
		require.NoError(t, err)
		assert.Equal(t, []string{
			"0 run.started", "0 step.started later", "1 step.finished later ran", "1 step.started long", "6 step.finished long ran",
			"6 step.started bad", "8 step.finished bad failed exit code 7",
			`8 step.finished needy blocked needs "bad", which failed`, "8 run.finished",
		}, log)
	})
}

func TestAnInterruptStopsAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		pl, scripts := planOf(t, diamond, "group")
		cause := errors.New("interrupted by the test")
		ctx, cancel := context.WithCancelCause(t.Context())
		time.AfterFunc(2*time.Second, func() { cancel(cause) })
		log, summary, err := run(ctx, pl, scripts, Config{Jobs: 1})
		assert.ErrorIs(t, err, cause)
		assert.Equal(t, []string{
			"0 run.started", "0 step.started base", "1 step.finished base ran", "1 step.started left",
			"2 step.finished left stopped interrupted", "2 step.finished right stopped not started",
			`2 step.finished top stopped needs "left", which was stopped`,
			`2 step.finished group stopped needs "top", which was stopped`, "2 run.finished",
		}, log)
		assert.Equal(t, 3, summary.Count(Stopped))
	})
}

func TestPrepareFindsAllThatCannotRun(t *testing.T) {
	text := `[task.a]
run = "if true"
[task.b]
run = ["fine", "echo 'x"]
[task.c]
shell = "no-such-shell"
run = "x"
[task.d]
run = "#!/no/such/interpreter\nx"
`
	prepare := func(words string) error {
		_, err := Prepare(planned(t, text, words))
		return err
	}
	var wrong project.Diagnostics
	require.ErrorAs(t, prepare("a b c d"), &wrong)
	assert.EqualError(t, wrong, "tugline.toml:2:8: task \"a\": `if <cond>` must be followed by `then`\n"+
		"tugline.toml:4:22: task \"b\": reached EOF without closing quote `'`")
	var missing *MissingError
	require.ErrorAs(t, prepare("c d"), &missing)
	assert.EqualError(t, missing, `tugline.toml:6:9: task "c": interpreter "no-such-shell" not found`+"\n"+
		`tugline.toml:9:8: task "d": interpreter "/no/such/interpreter" not found`)
}

func TestStatementsAndOutputComeInOrder(t *testing.T) {
	pl, scripts := planOf(t, "[task.a]\nrun = ['''echo one\necho two >&2''', 'false']\nfolder = '/'\n[task.b]\nrun = 'x'\nfolder = '/no/such'\n", "a b")
	var log strings.Builder // output may come in any number of pieces
	sink := func(e Event) {
		switch e.Kind {
		case StepCommand:
			fmt.Fprintf(&log, "[%s]", e.Text)
		case StepOutput:
			log.Write(e.Text)
		}
	}
	summary, err := Run(t.Context(), pl, scripts, Config{Jobs: 1, Observer: Observer{Sink: sink}})
	require.NoError(t, err)
	assert.Equal(t, "[echo one]one\n[echo two >&2]two\n[false]", log.String())
	assert.Equal(t, "tugline.toml:3:19", summary.Failures()[0].Failure.Span.String())

	pl, scripts = planOf(t, "[task.b]\nrun = 'x'\nfolder = '/no/such'\n", "b")
	summary, err = Run(t.Context(), pl, scripts, Config{})
	require.NoError(t, err)
	assert.Equal(t, "tugline.toml:3:10", summary.Failures()[0].Failure.Span.String())
	assert.Equal(t, "the folder does not exist: /no/such", summary.Failures()[0].Reason)
}

func TestOutputReturnsWhatAScriptPrints(t *testing.T) {
	for script, want := range map[string]string{
		"echo one; echo two; echo not this >&2":                "one\ntwo\n",
		"#!/usr/bin/env -S awk -f\nBEGIN { print \"by awk\" }": "by awk\n",
		"cat": "",
	} {
		out, err := Output(t.Context(), new(shell.Session).Run, project.Text{Value: script}, os.Environ(), t.TempDir(), time.Second)
		require.NoError(t, err)
		assert.Equal(t, want, out)
	}
	for script, want := range map[string]string{
		"echo first >&2; echo last words >&2; exit 3": "exit code 3: last words",
		"no-such-command":           `command "no-such-command" not found on the PATH`,
		"if x":                      "`if <cond>` must be followed by `then`",
		"#!/no/such/interpreter\nx": `interpreter "/no/such/interpreter" not found`,
	} {
		_, err := Output(t.Context(), new(shell.Session).Run, project.Text{Value: script}, os.Environ(), t.TempDir(), time.Second)
		assert.EqualError(t, err, want)
	}
}
