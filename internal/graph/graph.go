// Package graph tells what comes before what in a plan, and lays it out.
package graph

import (
	"cmp"
	"slices"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// Kind tells why one node comes before another.
type Kind string

// The kinds of edges. Those of after-calls are the keys that make them.
const (
	Needs Kind = "needs"
	Files Kind = "files" // what the first one writes, the second one reads
	Calls Kind = "calls" // the second one calls the first one, and ends with it
	Order Kind = "order" // the second one is called, or asked for, after the first one
)

// Node is a call, or all instances of a task.
type Node struct {
	Name      string
	Task      *project.Task
	Instances int // how many it stands for; 0: it is one call
	Service   bool
	Group     bool         // it has no commands of its own
	Steps     []*plan.Step // that have commands
}

// Edge leads from what comes first to what comes after it.
type Edge struct {
	From, To int // of Nodes
	Kind     Kind
	Files    []string // of Files: the patterns of reads, as they are written
}

// Graph is the shape of a plan. Nodes stand in the order of the plan.
type Graph struct {
	Nodes []Node
	Edges []Edge
}

// Of returns the graph of a plan. Instances of a task are one node, or with each a node
// apiece.
func Of(p *plan.Plan, each bool) *Graph {
	b := &builder{g: &Graph{}, each: each, node: map[any]int{}, edge: map[[2]int]int{}, of: map[*plan.Step][]int{}}
	b.findMany(p)
	for _, s := range p.Steps {
		b.addNode(s)
	}
	for _, s := range p.Steps {
		b.addEdges(s)
	}
	b.g.reduce(func(e Edge) bool { return e.Kind == Order })
	slices.SortFunc(b.g.Edges, func(a, c Edge) int { return cmp.Or(a.To-c.To, a.From-c.From) })
	return b.g
}

type builder struct {
	g    *Graph
	each bool
	node map[any]int    // by task for its instances, else by call
	edge map[[2]int]int // in g.Edges
	of   map[*plan.Step][]int
	many map[*project.Task]bool // the tasks whose calls are one node
}

// findMany finds the tasks whose calls are drawn as one node: those with instances, and those
// that such tasks call or need with arguments, as each instance does.
func (b *builder) findMany(p *plan.Plan) {
	b.many = map[*project.Task]bool{}
	if b.each {
		return
	}
	for _, s := range p.Steps {
		b.many[s.Task] = len(s.Task.Looped()) > 0
	}
	for changed := true; changed; {
		changed = false
		for _, s := range p.Steps {
			if !b.many[s.Task] {
				continue
			}
			for _, others := range [][]*plan.Step{s.Called, s.Needs} {
				for _, other := range others {
					if len(other.Task.Args) > 0 && !b.many[other.Task] {
						b.many[other.Task], changed = true, true
					}
				}
			}
		}
	}
}

func (b *builder) addNode(s *plan.Step) {
	f := s.First()
	if f.IsLoop() && b.each && f.Loop == nil { // its instances stand for it
		for _, instance := range f.Called {
			b.of[s] = append(b.of[s], b.of[instance]...)
		}
		return
	}
	var key any = f
	looped := b.many[s.Task]
	if looped {
		key = s.Task
	}
	at, known := b.node[key]
	if !known {
		at = len(b.g.Nodes)
		b.node[key] = at
		n := Node{Name: f.Name, Task: s.Task, Group: !s.Task.Composite()}
		if looped || f.IsLoop() {
			n.Name = s.Task.Name
		}
		b.g.Nodes = append(b.g.Nodes, n)
	}
	b.of[s] = []int{at}
	if n := &b.g.Nodes[at]; s.Works() {
		n.Steps, n.Group, n.Service = append(n.Steps, s), false, s.Stays()
	}
	if n := &b.g.Nodes[at]; looped && s == f && !f.IsLoop() {
		n.Instances++
	}
}

// connect adds an edge, or makes one stronger that is there.
func (b *builder) connect(from, to *plan.Step, kind Kind, file string) {
	for _, f := range b.of[from] {
		for _, t := range b.of[to] {
			if f == t {
				continue
			}
			at, known := b.edge[[2]int{f, t}]
			if !known {
				if _, back := b.edge[[2]int{t, f}]; back {
					continue // the instances of two tasks that wait for each other in turns
				}
				at = len(b.g.Edges)
				b.edge[[2]int{f, t}] = at
				b.g.Edges = append(b.g.Edges, Edge{From: f, To: t, Kind: kind})
			}
			e := &b.g.Edges[at]
			if e.Kind == Order {
				e.Kind = kind
			}
			if file != "" && !slices.Contains(e.Files, file) {
				e.Files = append(e.Files, file)
			}
		}
	}
}

func (b *builder) addEdges(s *plan.Step) {
	for _, via := range s.FileNeeds {
		b.connect(via.Step, s, Files, via.Read.Text.Value)
	}
	for _, t := range s.Triggers {
		if t.Kind == project.AtEnd { // nothing waits for it, so no end has it among its calls
			for _, owner := range t.Owners {
				b.connect(owner, s, Kind(t.Kind), "")
			}
		}
	}
	if s.Role == plan.End {
		for _, called := range s.Called {
			b.connect(s, called, afterKind(called), "")
		}
		return
	}
	if !s.IsLoop() {
		for _, called := range s.Called {
			b.connect(called, s, Calls, "")
		}
	}
	for _, need := range s.Needs {
		if isNamed(s, need) {
			b.connect(need, s, Needs, "")
		}
	}
	for _, others := range [][]*plan.Step{s.After, s.AfterEnd} {
		for _, other := range others {
			if other.Role != plan.Start { // for that wait the calls of its own task alone
				b.connect(other, s, Order, "")
			}
		}
	}
}

// isNamed reports whether the task of a step names that of another one among its needs, or
// reads what it writes.
func isNamed(s, need *plan.Step) bool {
	return slices.ContainsFunc(s.Task.Needs, func(c project.Call) bool { return c.Task == need.Task })
}

func afterKind(s *plan.Step) Kind {
	if s.CalledFor != nil {
		return Kind(s.CalledFor.Kind)
	}
	if len(s.Triggers) > 0 {
		return Kind(s.Triggers[0].Kind)
	}
	return Kind(project.Then)
}

// Reduced returns g without the edges that others imply, as a drawing needs them.
func (g *Graph) Reduced() *Graph {
	r := &Graph{g.Nodes, slices.Clone(g.Edges)}
	r.reduce(func(Edge) bool { return true })
	return r
}

// maxReduced is the largest number of edges that are looked through for those that others
// imply: that takes time that grows with its square.
const maxReduced = 4000

// reduce takes away those of some edges that others imply.
func (g *Graph) reduce(some func(Edge) bool) {
	if len(g.Edges) > maxReduced || !slices.ContainsFunc(g.Edges, some) {
		return
	}
	after := g.after()
	implied := func(e Edge) bool {
		seen := make([]bool, len(g.Nodes))
		open := []int{}
		for _, next := range after[e.From] {
			if next != e.To && !seen[next] {
				seen[next] = true
				open = append(open, next)
			}
		}
		for len(open) > 0 {
			n := open[len(open)-1]
			open = open[:len(open)-1]
			for _, next := range after[n] {
				if next == e.To {
					return true
				}
				if !seen[next] && next != e.From {
					seen[next] = true
					open = append(open, next)
				}
			}
		}
		return false
	}
	g.Edges = slices.DeleteFunc(g.Edges, func(e Edge) bool { return some(e) && implied(e) })
}

// after returns, for each node, those to which its edges lead.
func (g *Graph) after() [][]int {
	after := make([][]int, len(g.Nodes))
	for _, e := range g.Edges {
		after[e.From] = append(after[e.From], e.To)
	}
	return after
}

// Into returns, for each node, the edges that lead to it.
func (g *Graph) Into() [][]Edge {
	into := make([][]Edge, len(g.Nodes))
	for _, e := range g.Edges {
		into[e.To] = append(into[e.To], e)
	}
	return into
}
