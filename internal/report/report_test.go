package report

import (
	"encoding/xml"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/history"
)

// run makes a run of steps "name state ms slot needs…", each at its index.
func run(lines ...string) history.Run {
	r := history.Run{ID: "r1", Started: time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC), State: "failed", Request: []string{"all"}, Counts: map[string]int{}}
	for i, line := range lines {
		words := strings.Fields(line)
		s := history.RunStep{Index: i, Name: words[0], Task: words[0], State: words[1], Started: r.Started}
		fmt.Sscan(words[2], &s.Ms)
		if words[3] != "-" {
			slot := 0
			fmt.Sscan(words[3], &slot)
			s.Slot = &slot
		}
		for _, need := range words[4:] {
			n := 0
			fmt.Sscan(need, &n)
			s.Needs = append(s.Needs, n)
		}
		r.Steps = append(r.Steps, s)
		r.Counts[s.State]++
		r.Ms += s.Ms
	}
	return r
}

func names(steps []*history.RunStep) string {
	var all []string
	for _, s := range steps {
		all = append(all, s.Name)
	}
	return strings.Join(all, " ")
}

func TestLongestPathAndJobs(t *testing.T) {
	r := run("a ran 100 1", "b ran 300 1", "c ran 150 1 0", "d unchanged 0 - 1", "e ran 50 1 5")
	r.Groups = []history.RunGroup{{Index: 5, Name: "both", Needs: []int{2, 3}}}
	path, length := longestPath(&r)
	assert.Equal(t, "b e", names(path), "through a group, and what is unchanged takes nothing")
	assert.Equal(t, 350*time.Millisecond, length)
	assert.Equal(t, 600*time.Millisecond, makespan(&r, 1))
	assert.Equal(t, 350*time.Millisecond, makespan(&r, 2))
	assert.Equal(t, 350*time.Millisecond, makespan(&r, 9))
	empty := history.Run{}
	path, length = longestPath(&empty)
	assert.Empty(t, path)
	assert.Zero(t, length)
	assert.Zero(t, makespan(&empty, 2))
}

func report(r history.Run, logs map[string]string) *Report {
	for i := range r.Steps {
		if logs[r.Steps[i].Name] != "" {
			name := r.Steps[i].Name
			r.Steps[i].Log = &name
		}
	}
	return &Report{Title: "Almanac <&>", Run: r, Continue: "tugline resume r1", Usual: map[string]time.Duration{"slow": time.Second}, Log: func(s *history.RunStep, most int) (string, bool) {
		text := logs[s.Name]
		return text[max(0, len(text)-most):], len(text) > most
	}}
}

func TestJUnit(t *testing.T) {
	r := run("good ran 1500 1", "bad failed 20 1", "left unchanged 0 -", "after blocked 0 - 1")
	r.Steps[1].Reason, r.Steps[1].Place = "exit code 3", &history.Place{File: "tugline.toml", Line: 4, Column: 7}
	var b strings.Builder
	require.NoError(t, report(r, map[string]string{"bad": "\x1b[31mred\x1b[0m <&> \x00\n", "good": "fine\n"}).JUnit(&b))
	var got testSuites
	require.NoError(t, xml.Unmarshal([]byte(b.String()), &got))
	s := got.Suite
	assert.Equal(t, []int{4, 1, 0, 1}, []int{s.Tests, s.Failures, s.Errors, s.Skipped})
	assert.Equal(t, "1.500", s.Cases[0].Time)
	assert.Equal(t, "fine\n", s.Cases[0].Output)
	assert.Equal(t, &failure{"tugline.toml:4:7: exit code 3", "failed", "red <&> \n"}, s.Cases[1].Failure)
	assert.Nil(t, s.Cases[2].Skipped)
	assert.Equal(t, "blocked: ", s.Cases[3].Skipped.Message)
	assert.Equal(t, "2026-11-28T12:00:00", s.Timestamp)
}

// The page holds all that it needs, shows what failed first, and lets nothing out of a log.
func TestPage(t *testing.T) {
	r := run("good ran 1500 1", "bad failed 20 2", "slow ran 3000 1 0", "watcher stopped 4000 -")
	r.Steps[3].Service = true
	var b strings.Builder
	require.NoError(t, report(r, map[string]string{"bad": "</pre><script>alert(1)</script>\n", "good": strings.Repeat("x", 9000)}).HTML(&b))
	page := b.String()
	for _, want := range []string{
		"Almanac &lt;&amp;&gt;", "tugline resume r1", `<details id="l1" open>`, "&lt;/pre&gt;&lt;script&gt;", `<details id="l0"><summary>`, "… the end of a longer output",
		"<div>job 1</div><div>job 2</div><div>service</div>", "slower than usual", "the longest path: good → slow.", `class="bar ran long" href="#s2"`,
	} {
		assert.Contains(t, page, want)
	}
	assert.Less(t, strings.Index(page, "What failed"), strings.Index(page, "When each task ran"))
	assert.NotRegexp(t, `(?i)(src|href)="?(https?:)?//|@import|url\(`, page, "it asks for nothing else")
}

// A page of many steps stays small.
func TestPageOfManySteps(t *testing.T) {
	lines, logs := make([]string, 2000), map[string]string{}
	for i := range lines {
		lines[i] = fmt.Sprintf("step-%d ran 10 %d", i, i%8+1)
		logs[fmt.Sprintf("step-%d", i)] = strings.Repeat("a line of output\n", 400)
	}
	var b strings.Builder
	require.NoError(t, report(run(lines...), logs).HTML(&b))
	assert.Less(t, b.Len(), 2<<20)
	assert.Equal(t, 2000, strings.Count(b.String(), `<tr id="s`))
}
