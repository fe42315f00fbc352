package history

import (
	"slices"
	"strings"
	"time"
)

// Times tells how long the calls of a task take.
type Times struct {
	Task      string
	Ran       int           // how often it ran and ended well
	Unchanged int           // how often it need not run, or was restored
	Failed    int           // how often it failed
	Median    time.Duration // of those that ran; 0 without any
	Low, High time.Duration // the quickest and the slowest of them
}

// TimesOf returns the times of all tasks that had a part in runs, by name.
func TimesOf(runs []Run) []Times {
	byTask := map[string]*Times{}
	took := map[string][]time.Duration{}
	for _, run := range runs {
		for _, s := range run.Steps {
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
			slices.Sort(times)
			t.Low, t.High = times[0], times[len(times)-1]
			t.Median = (times[(len(times)-1)/2] + times[len(times)/2]) / 2
		}
		all = append(all, *t)
	}
	slices.SortFunc(all, func(a, b Times) int { return strings.Compare(a.Task, b.Task) })
	return all
}
