package engine

import (
	"container/heap"
	"slices"
	"time"

	"tugline/internal/plan"
)

// queue holds the steps that may start: first those that clean up, since they
// free something; then the one with the longest way to the end of the run; of
// equal ones, the first of the plan.
type queue struct {
	steps stepHeap
}

func (q *queue) push(s *plan.Step) { heap.Push(&q.steps, s) }
func (q *queue) pop()              { heap.Pop(&q.steps) }
func (q *queue) top() *plan.Step   { return q.steps.steps[0] }
func (q *queue) len() int          { return len(q.steps.steps) }

type stepHeap struct {
	steps []*plan.Step
	ways  []time.Duration // by step: its own time and that of the longest way behind it; nil: they do not count
}

func (h stepHeap) Len() int      { return len(h.steps) }
func (h stepHeap) Swap(i, j int) { h.steps[i], h.steps[j] = h.steps[j], h.steps[i] }
func (h *stepHeap) Push(x any)   { h.steps = append(h.steps, x.(*plan.Step)) }

func (h stepHeap) Less(i, j int) bool {
	a, b := h.steps[i].Index, h.steps[j].Index
	if clean := cleansUp(h.steps[i]); clean != cleansUp(h.steps[j]) {
		return clean
	}
	if h.ways != nil && h.ways[a] != h.ways[b] {
		return h.ways[a] > h.ways[b]
	}
	return a < b
}

// cleansUp reports whether a step is called by finally.
func cleansUp(s *plan.Step) bool {
	return slices.ContainsFunc(s.Triggers, func(t *plan.Trigger) bool { return t.Level == plan.Final })
}

func (h *stepHeap) Pop() any {
	old := h.steps
	s := old[len(old)-1]
	h.steps = old[:len(old)-1]
	return s
}

// rank finds the ways of the steps from an index on, which stand behind all
// they wait for: the longest way first is the rule of Graham and Coffman for
// one kind of machine ("Optimal scheduling for two-processor systems", 1972),
// with times in place of hops where they are known.
func (l *loop) rank(start int) {
	if l.cfg.Jobs == 1 {
		return // no order is quicker than another: the plan's is the one to expect
	}
	ways := &l.ready.steps.ways
	*ways = append(*ways, make([]time.Duration, len(l.plan.Steps)-start)...)
	usual := l.usual()
	for i := len(l.plan.Steps) - 1; i >= start; i-- {
		behind := time.Duration(0)
		for _, other := range l.waiting[i] {
			behind = max(behind, (*ways)[other.Index])
		}
		for _, t := range l.decides[i] {
			for _, other := range l.triggers[t].steps {
				behind = max(behind, (*ways)[other.Index])
			}
		}
		(*ways)[i] = behind + l.time(l.plan.Steps[i], usual)
	}
}

// usual returns what a step takes of which that is not known: the mean of the
// others. Without any, all are equal, and the number of hops decides.
func (l *loop) usual() time.Duration {
	var sum time.Duration
	known := 0
	for _, s := range l.plan.Steps {
		if s.Works() && l.cfg.Times != nil {
			if t := l.cfg.Times(s.Name); t > 0 {
				sum += t
				known++
			}
		}
	}
	if known == 0 {
		return time.Second
	}
	return sum / time.Duration(known)
}

func (l *loop) time(s *plan.Step, usual time.Duration) time.Duration {
	if !s.Works() {
		return 0
	}
	if l.cfg.Times != nil {
		if t := l.cfg.Times(s.Name); t > 0 {
			return t
		}
	}
	return usual
}
