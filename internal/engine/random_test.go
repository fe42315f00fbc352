package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// composedProject returns a project whose tasks name earlier ones in all ways.
func composedProject(random *rand.Rand, n int) string {
	var b strings.Builder
	names := func(upTo, most int) string {
		var out []string
		for range random.IntN(most + 1) {
			name := fmt.Sprintf("%q", fmt.Sprint("t", random.IntN(upTo)))
			if !strings.Contains(strings.Join(out, " "), name) {
				out = append(out, name)
			}
		}
		return strings.Join(out, ", ")
	}
	key := func(i int, name string, one int) {
		if i > 0 && random.IntN(one) == 0 {
			if calls := names(i, 3); calls != "" {
				fmt.Fprintf(&b, "%s = [%s]\n", name, calls)
			}
		}
	}
	for i := range n {
		fmt.Fprintf(&b, "[task.t%d]\n", i)
		key(i, "needs", 2)
		key(i, "then", 5)
		key(i, "if_failed", 4)
		key(i, "finally", 4)
		key(i, "at_end", 6)
		looped := random.IntN(4) == 0
		if looped {
			fmt.Fprintf(&b, "each.x = ['1', '2', '3']\nat_once = %d\n", 1+random.IntN(3))
		}
		if random.IntN(3) == 0 {
			fmt.Fprintf(&b, "lock = %q\n", string(rune('a'+random.IntN(2))))
		}
		if calls := ""; i > 0 && random.IntN(2) == 0 {
			for calls == "" {
				calls = names(i, 3)
			}
			fmt.Fprintf(&b, "calls = [%s]\nafter_failure = %q\n", calls, project.AfterFailure[random.IntN(3)])
			continue
		}
		code := 0
		if random.IntN(4) == 0 {
			code = 1
		}
		fmt.Fprintf(&b, "run = 't%d %d %d'\n", i, 1+random.IntN(9), code)
	}
	return b.String()
}

// TestComposedWorkAlwaysEnds runs what random projects come to, some of them
// interrupted.
func TestComposedWorkAlwaysEnds(t *testing.T) {
	ran := 0
	for seed := range uint64(600) {
		random := rand.New(rand.NewPCG(seed, 7))
		text := composedProject(random, 4+random.IntN(9))
		p, err := project.Parse("/almanac/tugline.toml", "tugline.toml", []byte(text))
		if !assert.NoError(t, err, text) {
			return
		}
		req := plan.Request{}
		for range 1 + random.IntN(3) {
			req.Calls = append(req.Calls, project.Call{Name: p.Tasks[len(p.Tasks)-1-random.IntN(3)].Name})
		}
		pl, err := plan.New(p, req)
		if err != nil {
			continue // lists of calls that contradict each other
		}
		ran++
		scripts, err := Prepare(pl)
		assert.NoError(t, err)
		cfg := Config{Jobs: 1 + random.IntN(4), Policy: Policy{After: project.AfterFailure[random.IntN(3)]}}
		stop := time.Duration(random.IntN(40)) * time.Second
		synctest.Test(t, func(t *testing.T) {
			ctx, cancel := context.WithCancelCause(t.Context())
			defer cancel(nil)
			if seed%2 == 0 {
				time.AfterFunc(stop, func() { cancel(errors.New("stopped by the test")) })
			}
			_, summary, _ := run(ctx, pl, scripts, cfg)
			for _, problem := range problems(summary) {
				assert.Fail(t, problem, "seed %d\n%s", seed, text)
			}
		})
		if t.Failed() {
			return
		}
	}
	assert.Greater(t, ran, 300, "most projects can be planned")
}

// problems returns what must not be in the results of a run.
func problems(s Summary) []string {
	var out []string
	state := map[*plan.Step]Result{}
	for _, r := range s.Results {
		state[r.step] = r
	}
	locked := map[string][]Result{}
	for _, r := range s.Results {
		step := r.step
		for _, name := range step.Task.Locks {
			if !step.Works() || r.Attempts == 0 {
				continue
			}
			for _, other := range locked[name.Value] {
				if r.Started.Before(other.Started.Add(other.Took)) && other.Started.Before(r.Started.Add(r.Took)) {
					out = append(out, fmt.Sprintf("%s and %s ran at once, though they share a lock", step.Name, other.Step.Name))
				}
			}
			locked[name.Value] = append(locked[name.Value], r)
		}
		switch {
		case r.State == "":
			out = append(out, step.Name+" did not end")
		case strings.Contains(r.Reason, "waits for what waits"):
			out = append(out, step.Name+" was stuck")
		}
		for _, need := range step.Needs {
			bad := state[need].State == Failed || state[need].State == Blocked || state[need].State == Stopped
			if step.Role == plan.Body && r.State == Ran && bad {
				out = append(out, fmt.Sprintf("%s ran though %s %s", step.Name, need.Name, state[need].State))
			}
		}
		if step.CalledFor == nil || step.Triggers == nil || r.State == Ran || r.State == Failed {
			continue
		}
		for _, owner := range step.CalledFor.Owners {
			first := owner.First()
			started := first.Works() && state[first].Attempts > 0 || !first.Works() && state[first].State == Ran
			if step.CalledFor.Kind == project.Finally && started && r.State == Skipped {
				out = append(out, fmt.Sprintf("%s was not made though %s had started", step.Name, owner.Name))
			}
		}
	}
	return out
}
