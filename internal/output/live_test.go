package output

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/engine"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// screen is a terminal that knows what the live part uses: line ends, cursor
// up, erasing to the end. It breaks lines at its width, and breaks those it
// shows anew when the width changes, as terminals do.
type screen struct {
	mu      sync.Mutex
	columns int
	lines   []string // logical lines; the cursor is behind the last
	widest  int      // the longest line ever drawn, in columns
}

var moves = regexp.MustCompile(`\x1b\[(\d+)A\r\x1b\[J|\x1b\[[0-9;]*m|\r?\n|[^\x1b\r\n]+`)

func (s *screen) Write(text []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.lines) == 0 {
		s.lines = []string{""}
	}
	for _, m := range moves.FindAllSubmatch(text, -1) {
		switch {
		case m[1] != nil:
			up, _ := strconv.Atoi(string(m[1]))
			for up > 0 { // take away the rows above the cursor
				s.lines = s.lines[:len(s.lines)-1]
				last := len(s.lines) - 1
				up -= s.rows(s.lines[last])
				s.lines[last] = ""
			}
			if up < 0 {
				s.lines = append(s.lines, "torn")
			}
		case bytes.HasSuffix(m[0], []byte("\n")):
			s.lines = append(s.lines, "")
		case m[0][0] != '\x1b':
			s.lines[len(s.lines)-1] += string(m[0])
			s.widest = max(s.widest, runewidth.StringWidth(s.lines[len(s.lines)-1]))
		}
	}
	return len(text), nil
}

func (s *screen) rows(line string) int {
	return max(1, (runewidth.StringWidth(line)+s.columns-1)/s.columns)
}

func (s *screen) size() (int, int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.columns, 30
}

func (s *screen) resize(columns int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.columns = columns
}

func (s *screen) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(s.lines, "\n")
}

func TestLivePartIsNeverTornAndLeavesNothing(t *testing.T) {
	for _, columns := range []int{40, 80, 300} {
		for _, steps := range []int{2, 200} {
			t.Run(fmt.Sprintf("%d columns, %d steps", columns, steps), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					tty := &screen{columns: columns}
					var names, want []string
					for i := range steps {
						names = append(names, fmt.Sprintf("task-with-a-name-%03d", i))
					}
					_, d := display(t, DisplayConfig{Mode: Lines, Out: tty, Size: tty.size, Style: Style{Color: true}}, strings.Join(names, " "), func(show func(string, engine.Event)) {
						for _, n := range names {
							show(n, started())
						}
						for i, n := range names {
							show(n, printed(fmt.Sprintf("output %d\nhalf a line", i)))
							name := n
							if columns == 40 { // a quarter of it is for the names
								name = fmt.Sprintf("task-…-%03d", i)
							}
							want = append(want, name+fmt.Sprintf(" · output %d", i))
							<-time.After(37 * time.Millisecond)
							if i%3 == 0 {
								tty.resize(columns - i%2*7 - i%5)
							}
						}
						tty.resize(columns)
					})
					<-time.After(time.Second)
					assert.Contains(t, tty.text(), fmt.Sprintf("0 of %d done, %d running", steps, steps))
					assert.Contains(t, tty.text(), "half a l")
					if columns < 300 {
						assert.LessOrEqual(t, tty.widest, max(columns, 34)) // 34: the output itself
					}
					assert.LessOrEqual(t, strings.Count(tty.text(), "\n"), steps+30/3+3)
					d.Close()
					assert.Equal(t, strings.Join(want, "\n")+"\n", tty.text())
				})
			})
		}
	}
}

func TestLivePartShowsWhatRuns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tty := &screen{columns: 60}
		_, d := display(t, DisplayConfig{Mode: Blocks, Out: tty, Size: tty.size}, "chart page index", func(show func(string, engine.Event)) {
			show("chart", started())
			<-time.After(65 * time.Second)
			show("page", started())
			show("page", printed("Which harbour? "))
			show("chart", engine.Event{Kind: engine.StepWaiting, Text: []byte("waiting for its background processes")})
			<-time.After(3300 * time.Millisecond)
		})
		assert.Equal(t, "1:08  0 of 3 done, 2 running "+strings.Repeat("░", 30)+"\n  1:08  chart  waiting for its background processes\n  0:03  page   Which harbour?\n", tty.text())
		for key := range d.steps {
			if key.name == "chart" {
				s := &engine.Step{Index: key.index, Name: "chart", Task: "chart", Works: true, Last: true}
				d.Event(engine.Event{Kind: engine.StepFinished, Step: s, Result: engine.Result{Step: s, State: engine.Ran, Took: 68 * time.Second}})
			}
		}
		<-time.After(time.Second)
		assert.Equal(t, "ran        chart   1m08s\n1:09  1 of 3 done, 1 running "+strings.Repeat("█", 10)+strings.Repeat("░", 20)+"\n  0:04  page  Which harbour?\n", tty.text())
		d.Close()
	})
}

// What need not run is no part of the work that is to be done; what waits for a condition
// shows for how long.
func TestLivePartCountsWhatActs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tty := &screen{columns: 80}
		_, d := display(t, DisplayConfig{Mode: Blocks, Out: tty, Size: tty.size}, "chart page index", func(show func(string, engine.Event)) {
			show("chart", started())
			show("page", engine.Event{Kind: engine.StepHeld, Text: []byte("127.0.0.1:80 accepts connections")})
			show("index", started())
			show("index", finished(engine.Unchanged, ""))
			<-time.After(12400 * time.Millisecond)
		})
		assert.Contains(t, tty.text(), "0:12  0 of 2 done, 2 running")
		assert.Contains(t, tty.text(), "  0:12  page   waits until 127.0.0.1:80 accepts connections\n")
		d.Close()
	})
}

func TestLivePartTellsHowLongItWillTake(t *testing.T) {
	usual := map[string]time.Duration{"chart": 60 * time.Second, "page": 90 * time.Second, "index": 30 * time.Second}
	synctest.Test(t, func(t *testing.T) {
		tty := &screen{columns: 80}
		cfg := DisplayConfig{Mode: Blocks, Out: tty, Size: tty.size, Jobs: 2, Usual: func(call string) time.Duration { return usual[call] }}
		_, d := display(t, cfg, "chart page index", func(show func(string, engine.Event)) {
			show("chart", started())
			show("page", started())
			<-time.After(40400 * time.Millisecond)
		})
		assert.Contains(t, tty.text(), "0:40  0 of 3 done, 2 running, about 0:50 left ░")
		assert.Contains(t, tty.text(), "\n  0:40 of 1:00  chart\n  0:40 of 1:30  page\n")
		d.Event(engine.Event{Kind: engine.StepsAdded, Added: engine.StepsOf(planOf(t, "task.new.run = 'x'\n", "new"))})
		<-time.After(time.Second)
		assert.NotContains(t, tty.text(), "left", "of the new one it is not known")
		d.Close()
	})
}

// planOf plans tasks of a project.
func planOf(t *testing.T, text, words string) *plan.Plan {
	t.Helper()
	p, err := project.Parse("/x/tugline.toml", "tugline.toml", []byte(text))
	require.NoError(t, err)
	var req plan.Request
	for _, w := range strings.Fields(words) {
		req.Calls = append(req.Calls, project.Call{Name: w})
	}
	pl, err := plan.New(p, req)
	require.NoError(t, err)
	return pl
}
