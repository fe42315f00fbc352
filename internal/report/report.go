// Package report tells of one recorded run: as a page, and as JUnit XML.
package report

import (
	"cmp"
	"container/heap"
	"regexp"
	"slices"
	"sync"
	"time"

	"tugline/internal/history"
)

// Report is what is told of a run. It is made from the record alone.
type Report struct {
	Title string // of the project; may be empty
	Run   history.Run
	// Log returns what a step printed, from its end if that is long. Nothing is an empty text.
	Log   func(s *history.RunStep, most int) (text string, cut bool)
	Usual map[string]time.Duration // what calls usually take; may be empty
	// Continue is the command that goes on with the run; empty: there is nothing to go on with.
	Continue string
}

// control matches what has no place in a text: control sequences (ECMA-48) and characters.
var control = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile("\x1b\\[[0-?]*[ -/]*[@-~]|\x1b\\][^\x07\x1b]*(?:\x07|\x1b\\\\)|[\x00-\x08\x0b-\x1f\x7f]")
})

// plain returns a log without what only a terminal understands.
func plain(text string) string { return control().ReplaceAllString(text, "") }

// took returns how long a step took.
func took(s *history.RunStep) time.Duration { return time.Duration(s.Ms) * time.Millisecond }

// works reports whether a step took part in the timeline: it was started, or restored.
func works(s *history.RunStep) bool {
	return !s.Service && (s.State == "ran" || s.State == "failed" || s.State == "restored" || s.State == "stopped" && s.Slot != nil)
}

// work is the graph of a run: its steps, and the groups between them.
type work struct {
	needs map[int][]int            // by index
	steps map[int]*history.RunStep // by index
	order []int                    // indexes, each behind those that it needs
}

func workOf(run *history.Run) work {
	w := work{needs: map[int][]int{}, steps: map[int]*history.RunStep{}}
	for i := range run.Steps {
		s := &run.Steps[i]
		w.needs[s.Index], w.steps[s.Index] = s.Needs, s
	}
	for _, g := range run.Groups {
		w.needs[g.Index] = g.Needs
	}
	done := map[int]bool{}
	var visit func(index int)
	visit = func(index int) {
		needs, known := w.needs[index]
		if done[index] || !known {
			return
		}
		done[index] = true
		for _, need := range needs {
			visit(need)
		}
		w.order = append(w.order, index)
	}
	indexes := make([]int, 0, len(w.needs))
	for index := range w.needs {
		indexes = append(indexes, index)
	}
	slices.Sort(indexes)
	for _, index := range indexes {
		visit(index)
	}
	return w
}

// length returns how long a step or a group takes.
func (w *work) length(index int) time.Duration {
	if s := w.steps[index]; s != nil && works(s) {
		return took(s)
	}
	return 0
}

// longestPath returns the steps of the longest way through a run, in order, and how long
// they take together: with any number of jobs it would have taken that long.
func longestPath(run *history.Run) (path []*history.RunStep, length time.Duration) {
	w := workOf(run)
	ends, before := map[int]time.Duration{}, map[int]int{}
	last := -1
	for _, index := range w.order {
		start, from := time.Duration(0), -1
		for _, need := range w.needs[index] {
			if ends[need] >= start && (ends[need] > start || from < 0) {
				start, from = ends[need], need
			}
		}
		ends[index], before[index] = start+w.length(index), from
		if last < 0 || ends[index] > ends[last] {
			last = index
		}
	}
	if last < 0 {
		return nil, 0
	}
	length = ends[last]
	for index := last; index >= 0; index = before[index] {
		if s := w.steps[index]; s != nil && w.length(index) > 0 {
			path = append(path, s)
		}
	}
	slices.Reverse(path)
	return path, length
}

// makespan returns how long a run takes with so many jobs, in simulated time: of what is
// ready, the step with the longest way to the end starts first (Graham, "Bounds on
// Multiprocessing Timing Anomalies", 1969).
func makespan(run *history.Run, jobs int) time.Duration {
	w := workOf(run)
	after, waits := map[int][]int{}, map[int]int{}
	rest := map[int]time.Duration{} // the longest way from the start of a step to the end
	for _, index := range w.order {
		for _, need := range w.needs[index] {
			if _, known := w.needs[need]; known {
				after[need] = append(after[need], index)
				waits[index]++
			}
		}
	}
	for _, index := range slices.Backward(w.order) {
		for _, next := range after[index] {
			rest[index] = max(rest[index], rest[next])
		}
		rest[index] += w.length(index)
	}
	var ready, running queue
	for _, index := range w.order {
		if waits[index] == 0 {
			heap.Push(&ready, item{index, -rest[index]})
		}
	}
	now := time.Duration(0)
	for ready.Len()+running.Len() > 0 {
		for ready.Len() > 0 && running.Len() < jobs {
			next := heap.Pop(&ready).(item)
			heap.Push(&running, item{next.index, now + w.length(next.index)})
		}
		ended := heap.Pop(&running).(item)
		now = ended.key
		for _, next := range after[ended.index] {
			if waits[next]--; waits[next] == 0 {
				heap.Push(&ready, item{next, -rest[next]})
			}
		}
	}
	return now
}

// item is an entry of a queue; the one with the smallest key comes first.
type item struct {
	index int
	key   time.Duration
}

type queue []item

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, k int) bool {
	return cmp.Or(cmp.Compare(q[i].key, q[k].key), q[i].index-q[k].index) < 0
}
func (q queue) Swap(i, k int) { q[i], q[k] = q[k], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(item)) }
func (q *queue) Pop() any {
	last := (*q)[len(*q)-1]
	*q = (*q)[:len(*q)-1]
	return last
}

// slots returns how many jobs a run had in use.
func slots(run *history.Run) int {
	most := 1
	for _, s := range run.Steps {
		if s.Slot != nil {
			most = max(most, *s.Slot)
		}
	}
	return most
}
