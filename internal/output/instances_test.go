package output

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"tugline/internal/engine"
)

const ports = `
[task.page]
each.port = { list = ["a", "b", "c", "d", "e", "f"] }
run = "x"
[task.few]
each.port = { list = ["a", "b"] }
run = "x"
`

// instancesEnd shows a run in which the steps end in the states given by the
// last letter of their names, and returns what was shown and the summary.
func instancesEnd(t *testing.T, verbose bool, states map[string]engine.State) (shown, end string) {
	t.Helper()
	pl := planOf(t, ports, "page few")
	var out, err bytes.Buffer
	steps := engine.StepsOf(pl)
	d := NewDisplay(steps, DisplayConfig{Mode: Blocks, Out: &out, Err: &err, Verbose: verbose})
	var summary engine.Summary
	for _, s := range steps {
		r := engine.Result{Step: s, State: engine.Ran}
		if s.Works {
			r.State = states[s.Name[len(s.Name)-1:]]
		}
		if r.State == engine.Failed {
			r.Failure = &engine.Failure{Span: pl.Steps[s.Index].Task.Span, Msg: "exit code 1"}
		}
		d.Event(engine.Event{Kind: engine.StepStarted, Step: s})
		d.Event(engine.Event{Kind: engine.StepFinished, Step: s, Result: r})
		summary.Results = append(summary.Results, r)
	}
	d.Summary(summary, Style{})
	return out.String(), err.String()
}

func TestInstancesThatNeedNotRunAreToldOfTogether(t *testing.T) {
	states := map[string]engine.State{"a": engine.Unchanged, "b": engine.Unchanged, "c": engine.Ran, "d": engine.Skipped, "e": engine.Unchanged, "f": engine.Unchanged}
	shown, end := instancesEnd(t, false, states)
	assert.Equal(t, `ran        page --port c
unchanged  page                   4 of 6 instances
skipped    page                   1 of 6 instances
unchanged  few --port a
unchanged  few --port b
`, shown)
	assert.Equal(t, "\n1 ran, 6 unchanged, 1 skipped in 0.00s\n", end)
	shown, _ = instancesEnd(t, true, states)
	assert.Contains(t, shown, "unchanged  page --port f\n")
	assert.NotContains(t, shown, "instances")
}

func TestManyFailedInstancesAreToldByName(t *testing.T) {
	states := map[string]engine.State{}
	for _, name := range strings.Split("abcdef", "") {
		states[name] = engine.Failed
	}
	_, end := instancesEnd(t, false, states)
	assert.Equal(t, 3, strings.Count(end, `task "page --port`))
	assert.Equal(t, 2, strings.Count(end, `task "few --port`))
	assert.Contains(t, end, "\n3 more instances of \"page\" failed; tugline log tells what they printed:\n      page --port d\n      page --port e\n      page --port f\n")
	assert.Contains(t, end, "\n8 failed in 0.00s\n")
}

// What is alike is told once, with the first names.
func TestEqualEndingsOfManyInstancesAreToldOnce(t *testing.T) {
	text := "[task.t]\neach.n = ['1', '2', '3', '4', '5', '6', '7', '8', '9', '10', '11', '12', '13']\nrun = 'x'\n"
	pl := planOf(t, text, "t")
	var out strings.Builder
	steps := engine.StepsOf(pl)
	d := NewDisplay(steps, DisplayConfig{Out: &out, Err: &out, Mode: Blocks})
	for i, s := range steps {
		if !s.Works {
			continue
		}
		r := engine.Result{Step: s, State: engine.Failed, Reason: "exit code 1", Failure: &engine.Failure{}}
		if i >= 5 && i < 8 {
			r = engine.Result{Step: s, State: engine.Blocked, Reason: fmt.Sprintf("needs %q, which failed", fmt.Sprint("u", i/7))}
		} else if i >= 5 {
			r = engine.Result{Step: s, State: engine.Stopped, Reason: `not started because "t --n 1" failed`}
		}
		d.Event(engine.Event{Kind: engine.StepFinished, Step: s, Result: r})
	}
	assert.Equal(t, `failed     t --n 1           exit code 1
failed     t --n 2           exit code 1
failed     t --n 3           exit code 1
failed     t                 2 of 13 instances: exit code 1; --n 4, --n 5
blocked    t                 2 of 13 instances: needs "u0", which failed; --n 6, --n 7
blocked    t --n 8           needs "u1", which failed
stopped    t                 5 of 13 instances: not started because "t --n 1" failed; --n 9, --n 10, --n 11 and 2 more
`, out.String())
}

func TestCutMiddle(t *testing.T) {
	for text, want := range map[string]string{"short": "short", "exactly ten"[:10]: "exactly te", "a name of a task": "a nam…task", "港港港港港港港": "港港…港港"} {
		assert.Equal(t, want, cutMiddle(text, 10))
	}
}
