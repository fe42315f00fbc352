package engine

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const forked = `
[task.all]
needs = ["one", "two", "long", "last"]
[task.one]
run = "one 1"
[task.two]
run = "two 1"
[task.long]
run = "long 9"
[task.first]
run = "first 1"
[task.last]
needs = ["first"]
run = "last 1"
`

func TestTheLongestWayStartsFirst(t *testing.T) {
	known := map[string]int{"long": 9, "one": 1, "two": 1, "first": 1, "last": 1}
	tests := []struct {
		name  string
		cfg   Config
		times bool
		want  string
	}{
		{"by time", Config{Jobs: 2}, true, "long first one two last"},
		{"by hops, then by the order of the file", Config{Jobs: 2}, false, "first one two long last"},
		{"one at a time there is nothing to win", Config{Jobs: 1}, true, "one two long first last"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				pl, scripts := planOf(t, forked, "all")
				if test.times {
					test.cfg.Times = func(call string) time.Duration { return time.Duration(known[call]) * time.Second }
				}
				log, _, err := run(t.Context(), pl, scripts, test.cfg)
				require.NoError(t, err)
				var started []string
				for _, line := range log {
					if _, name, found := strings.Cut(line, "step.started "); found {
						started = append(started, name)
					}
				}
				assert.Equal(t, test.want, strings.Join(started, " "))
			})
		})
	}
}

// randomPlan returns a project of n steps that need some of those shortly
// before them, and take 1 to 60 seconds.
func randomPlan(random *rand.Rand, n int) (text string, seconds []int, needs [][]int) {
	var b strings.Builder
	all := []string{}
	for i := range n {
		seconds = append(seconds, 1+random.IntN(60))
		own := []int{}
		for range random.IntN(4) {
			if other := i - 1 - random.IntN(40); other >= 0 && !slices.Contains(own, other) {
				own = append(own, other)
			}
		}
		needs = append(needs, own)
		names := []string{}
		for _, other := range own {
			names = append(names, fmt.Sprintf("%q", fmt.Sprint("s", other)))
		}
		fmt.Fprintf(&b, "[task.s%d]\nneeds = [%s]\nrun = \"s%d %d\"\n", i, strings.Join(names, ", "), i, seconds[i])
		all = append(all, fmt.Sprintf("%q", fmt.Sprint("s", i)))
	}
	fmt.Fprintf(&b, "[task.all]\nneeds = [%s]\n", strings.Join(all, ", "))
	return b.String(), seconds, needs
}

// bound returns what no order can be quicker than: the longest path, or all
// work on all jobs.
func bound(seconds []int, needs [][]int, jobs int) float64 {
	path := make([]int, len(seconds))
	longest, work := 0, 0
	for i, own := range needs {
		for _, other := range own {
			path[i] = max(path[i], path[other])
		}
		path[i] += seconds[i]
		longest, work = max(longest, path[i]), work+seconds[i]
	}
	return max(float64(longest), float64(work)/float64(jobs))
}

// TestMakespan holds the time that a run takes against its lower bound, in fake
// time; bench/ shows what it prints.
func TestMakespan(t *testing.T) {
	const graphs, steps, jobs = 60, 200, 8
	var known, unknown []float64
	random := rand.New(rand.NewPCG(1, 2))
	for range graphs {
		text, seconds, needs := randomPlan(random, steps)
		least := bound(seconds, needs, jobs)
		makespan := func(times func(string) time.Duration) (ratio float64) {
			synctest.Test(t, func(t *testing.T) {
				pl, scripts := planOf(t, text, "all")
				_, summary, err := run(t.Context(), pl, scripts, Config{Jobs: jobs, Past: Past{Times: times}})
				require.NoError(t, err)
				ratio = summary.Wall.Seconds() / least
			})
			return ratio
		}
		known = append(known, makespan(func(call string) time.Duration {
			var i int
			fmt.Sscanf(call, "s%d", &i)
			return time.Duration(seconds[i]) * time.Second
		}))
		unknown = append(unknown, makespan(nil))
	}
	slices.Sort(known)
	slices.Sort(unknown)
	at := graphs * 95 / 100
	t.Logf("makespan known %.4f %.4f unknown %.4f %.4f", known[graphs/2], known[at], unknown[graphs/2], unknown[at])
	assert.LessOrEqual(t, known[at], 1.02, "with the times known, 95 in 100 runs are as short as they can be, nearly")
	assert.LessOrEqual(t, unknown[graphs/2], 1.2)
}
