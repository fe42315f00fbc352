package engine

import (
	"container/heap"

	"tugline/internal/plan"
)

// queue holds the steps that may start, the first of the plan on top.
type queue struct{ steps stepHeap }

func (q *queue) push(s *plan.Step) { heap.Push(&q.steps, s) }
func (q *queue) pop()              { heap.Pop(&q.steps) }
func (q *queue) top() *plan.Step   { return q.steps[0] }
func (q *queue) len() int          { return len(q.steps) }

type stepHeap []*plan.Step

func (h stepHeap) Len() int           { return len(h) }
func (h stepHeap) Less(i, j int) bool { return h[i].Index < h[j].Index }
func (h stepHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *stepHeap) Push(x any)        { *h = append(*h, x.(*plan.Step)) }

func (h *stepHeap) Pop() any {
	old := *h
	s := old[len(old)-1]
	*h = old[:len(old)-1]
	return s
}
