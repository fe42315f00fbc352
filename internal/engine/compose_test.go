package engine

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ends runs tasks in fake time and returns how their steps ended, as "second
// name state reason", but for the steps that only stand for others. If stop is
// not 0, the run is interrupted after that time.
func ends(t *testing.T, stop time.Duration, text, words string, cfg Config) []string {
	t.Helper()
	var out []string
	synctest.Test(t, func(t *testing.T) {
		pl, scripts := planOf(t, text, words)
		ctx, cancel := context.WithCancelCause(t.Context())
		defer cancel(nil)
		if stop > 0 {
			time.AfterFunc(stop, func() { cancel(errors.New("stopped by the test")) })
		}
		log, summary, _ := run(ctx, pl, scripts, cfg)
		shown := map[string]bool{}
		for _, r := range summary.Results {
			if r.IsShown() {
				shown[r.Step.Name] = true
			}
		}
		for _, line := range log {
			second, rest, _ := strings.Cut(line, " step.finished ")
			name, _, _ := strings.Cut(rest, " ")
			if rest != "" && shown[name] {
				out = append(out, second+" "+rest)
			}
		}
	})
	return out
}

const composite = `
[task.deploy]
needs = ["build"]
calls = ["provision", ["wait", "check"], "open"]
then = ["tell"]
if_failed = ["collect", "mourn"]
finally = ["teardown"]
[task.build]
run = "build 1"
[task.provision]
run = "provision 2"
[task.wait]
run = "wait 3"
[task.check]
run = "check 1 CODE"
[task.open]
run = "open 1"
[task.tell]
run = "tell 1"
[task.collect]
run = "collect 1"
[task.mourn]
run = "mourn 1"
[task.teardown]
run = "teardown 2"
[task.later]
needs = ["deploy"]
run = "later 1"
`

func TestCallsAreMadeInOrderAndAfterCallsAtTheEnd(t *testing.T) {
	good := strings.ReplaceAll(composite, "CODE", "0")
	bad := strings.ReplaceAll(composite, "CODE", "7")
	tests := []struct {
		name, text, words string
		stop              time.Duration
		want              []string
	}{
		{"all is well", good, "later", 0, []string{
			"1 build ran", "3 provision ran", "4 check ran", "6 wait ran", "7 open ran", "8 tell ran", "10 teardown ran", "11 later ran",
		}},
		{"a call fails", bad, "later", 0, []string{
			"1 build ran", "3 provision ran", "4 check failed exit code 7", "6 wait ran", `6 open blocked comes after "check", which failed`,
			`6 tell blocked needs "deploy", which failed`, "7 collect ran", "8 mourn ran", "10 teardown ran", `10 later blocked needs "deploy", which failed`,
		}},
		{"an interrupt before the calls", good, "later", 500 * time.Millisecond, []string{
			"0 build stopped interrupted", `0 provision stopped needs "deploy", which was stopped`, `0 later stopped needs "deploy", which was stopped`,
		}},
		{"an interrupt in the calls", good, "deploy", 2 * time.Second, []string{
			"1 build ran", "2 provision stopped interrupted", "4 teardown ran",
		}},
		{"an interrupt while it cleans up", good, "deploy", 9 * time.Second, []string{
			"1 build ran", "3 provision ran", "4 check ran", "6 wait ran", "7 open ran", "8 tell ran", "10 teardown ran",
		}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			got := ends(t, test.stop, test.text, test.words, Config{Jobs: 4})
			for _, want := range test.want {
				assert.Contains(t, got, want)
			}
			for _, line := range got {
				if strings.Contains(line, " ran") || strings.Contains(line, " failed") {
					assert.Contains(t, test.want, line)
				}
			}
		})
	}
}

func TestWhatAFailureDoesInATaskWithCalls(t *testing.T) {
	const text = `
after_failure = "TOP"
[task.all]
needs = ["loop", "slow"]
[task.loop]
after_failure = "OWN"
calls = [["bad", "long", "next"]]
[task.bad]
run = "bad 1 2"
[task.long]
run = "long 4"
[task.next]
needs = ["short"]
run = "next 1"
[task.short]
run = "short 2"
[task.slow]
needs = ["short"]
run = "slow 1"
`
	tests := []struct{ top, own, option, want string }{
		{"drain", "continue", "", `1 bad failed exit code 2; 2 short ran; 2 slow stopped not started because "bad" failed; 3 next ran; 4 long ran`},
		{"continue", "drain", "", `1 bad failed exit code 2; 2 short ran; 2 next stopped not started because "bad" failed; 3 slow ran; 4 long ran`},
		{"continue", "abort", "", `1 bad failed exit code 2; 1 long stopped stopped because "bad" failed; 2 short ran; 2 next stopped not started because "bad" failed; 3 slow ran`},
		{"drain", "drain", "continue", `1 bad failed exit code 2; 2 short ran; 3 next ran; 3 slow ran; 4 long ran`},
	}
	for _, test := range tests {
		t.Run(test.top+" "+test.own+" "+test.option, func(t *testing.T) {
			own := strings.NewReplacer("TOP", test.top, "OWN", test.own).Replace(text)
			got := ends(t, 0, own, "all", Config{Jobs: 8, Policy: Policy{After: test.top, AfterAll: test.option}})
			assert.ElementsMatch(t, strings.Split(test.want, "; "), got)
		})
	}
}

func sorted(lines []string) []string {
	slices.Sort(lines)
	return lines
}

const looped = `
[lists]
ports = ["merrowick", "gull", "tarn", "quay"]
[task.page]
each.port = "ports"
at_once = 2
run = "page 2"
then = ["index"]
finally = ['tidy --port "$port"']
[task.index]
run = "index 1"
[task.tidy]
args.port = {}
run = "tidy 1"
`

func TestInstancesRunSoManyAtOnceAndShareEqualAfterCalls(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		pl, scripts := planOf(t, looped, "page")
		log, summary, err := run(t.Context(), pl, scripts, Config{Jobs: 8})
		require.NoError(t, err)
		assert.Equal(t, 9, summary.Count(Ran))
		text := strings.Join(log, "\n")
		assert.Contains(t, text, "2 step.finished page --port gull ran\n")
		assert.Contains(t, text, "5 step.finished page --port quay ran\n", "a place is free when what had it is cleaned up")
		assert.Contains(t, text, "6 step.finished index ran\n", "once, after the last")
		assert.Equal(t, 1, strings.Count(text, "finished index"))
		assert.Contains(t, text, "step.finished tidy --port tarn ran")
	})
}

// What stands is cleaned up after before something new is set up, whatever is
// called after the last one.
func TestCleaningUpFreesAPlace(t *testing.T) {
	for name, task := range map[string]string{
		"commands": "run = 'fleet 1 1'",
		"calls":    "calls = ['boot --m \"$m\"', 'use --m \"$m\"']",
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				pl, scripts := planOf(t, `
[task.fleet]
each.m = ["1", "2", "3", "4", "5", "6"]
at_once = 2
after_failure = "continue"
`+task+`
if_failed = ["collect"]
finally = ['down --m "$m"']
[task.boot]
args.m = {}
run = "boot 1"
[task.use]
args.m = {}
run = "use 1 1"
[task.collect]
run = "collect 1"
[task.down]
args.m = {}
run = "down 2"
`, "fleet")
				log, summary, err := run(t.Context(), pl, scripts, Config{Jobs: 8})
				require.NoError(t, err)
				assert.Equal(t, 6, summary.Count(Failed), "each of them is tried")
				assert.Equal(t, 1, strings.Count(strings.Join(log, "\n"), "finished collect"))
				up, most := 0, 0
				for _, line := range log {
					if strings.Contains(line, "started fleet --m") || strings.Contains(line, "started boot --m") {
						up++
					}
					if strings.Contains(line, "finished down --m") {
						up--
					}
					most = max(most, up)
				}
				assert.Equal(t, 2, most, "as many as may stand")
				assert.Zero(t, up)
			})
		})
	}
}

func TestTasksThatShareALockNeverOverlap(t *testing.T) {
	got := ends(t, 0, `
[task.all]
needs = ["a", "b", "outer", "free"]
[task.a]
lock = "server"
run = "a 2"
[task.b]
lock = ["server", "disk"]
run = "b 2"
[task.outer]
lock = "server"
calls = ["first", "b2"]
[task.first]
needs = ["locked-need"]
lock = "disk"
run = "first 1"
[task.locked-need]
lock = "server"
run = "locked-need 1"
[task.b2]
lock = "server"
run = "b2 1"
[task.free]
run = "free 1"
`, "all", Config{Jobs: 8})
	assert.Equal(t, []string{"1 free ran", "1 locked-need ran", "2 first ran", "3 b2 ran", "5 a ran", "7 b ran"}, sorted(got), "the longest way first")
}
