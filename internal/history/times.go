package history

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"tugline/internal/atomicfile"
)

// Times tells how long the calls of a task take.
type Times struct {
	Task      string
	Ran       int             // how often it ran and ended well
	Unchanged int             // how often it need not run, or was restored
	Failed    int             // how often it failed
	Median    time.Duration   // of those that ran; 0 without any
	Low, High time.Duration   // the quickest and the slowest of them
	P90       time.Duration   // nine in ten took no longer, by the nearest rank
	Trend     []time.Duration // the last ones, the oldest first
}

// trendLength is how many times the trend of a task shows.
const trendLength = 16

// IsSlow reports whether a step took longer than usual: half as long again, and by so much
// that one notices. usual is 0 if it is not known.
func IsSlow(took, usual time.Duration) bool {
	return usual > 0 && took > usual+usual/2 && took-usual > 500*time.Millisecond
}

// TimesOf returns the times of all tasks that had a part in runs, by name. The newest run
// comes first.
func TimesOf(runs []Run) []Times {
	byTask := map[string]*Times{}
	took := map[string][]time.Duration{}
	for _, run := range runs {
		for _, s := range slices.Backward(run.Steps) {
			t := byTask[s.Task]
			if t == nil {
				t = &Times{Task: s.Task}
				byTask[s.Task] = t
			}
			switch s.State {
			case "ran":
				t.Ran++
				took[s.Task] = append(took[s.Task], time.Duration(s.Ms)*time.Millisecond)
			case "unchanged", "restored":
				t.Unchanged++
			case "failed":
				t.Failed++
			}
		}
	}
	all := []Times{}
	for name, t := range byTask {
		if times := took[name]; len(times) > 0 {
			t.Trend = slices.Clone(times[:min(len(times), trendLength)])
			slices.Reverse(t.Trend)
			slices.Sort(times)
			t.P90 = times[(9*len(times)+9)/10-1]
			t.Low, t.High = times[0], times[len(times)-1]
			t.Median = (times[(len(times)-1)/2] + times[len(times)/2]) / 2
		}
		all = append(all, *t)
	}
	slices.SortFunc(all, func(a, b Times) int { return strings.Compare(a.Task, b.Task) })
	return all
}

// usualFile keeps what each call usually takes.
const usualFile = "times"

// Usual returns what calls usually take, by name.
func (l *Ledger) Usual() map[string]time.Duration {
	usual := map[string]time.Duration{}
	text, err := os.ReadFile(filepath.Join(l.folder, usualFile))
	if err != nil {
		return usual // nothing is known yet
	}
	for line := range strings.Lines(string(text)) {
		ms, quoted, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		n, err := strconv.ParseInt(ms, 10, 64)
		if name, bad := strconv.Unquote(quoted); err == nil && bad == nil {
			usual[name] = time.Duration(n) * time.Millisecond
		}
	}
	return usual
}

// KeepUsual adds what calls took in a run to what they usually take: the last
// run counts as much as all before it.
func (l *Ledger) KeepUsual(took map[string]time.Duration) error {
	if len(took) == 0 {
		return nil
	}
	usual := l.Usual()
	for name, t := range took {
		if before, known := usual[name]; known {
			t = (before + t) / 2
		}
		usual[name] = t
	}
	names := make([]string, 0, len(usual))
	for name := range usual {
		names = append(names, name)
	}
	slices.Sort(names)
	var text []byte
	for _, name := range names {
		text = strconv.AppendInt(text, max(1, usual[name].Milliseconds()), 10)
		text = append(strconv.AppendQuote(append(text, ' '), name), '\n')
	}
	if err := atomicfile.Write(filepath.Join(l.folder, usualFile), text); err != nil {
		return fmt.Errorf("keeping how long tasks take: %w", err)
	}
	return nil
}
