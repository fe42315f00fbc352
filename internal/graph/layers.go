package graph

import (
	"cmp"
	"slices"
)

// Layout is where the nodes of a graph stand: in layers, each node behind all that comes
// before it, and in an order in which few edges cross.
//
// The method is that of Sugiyama, Tagawa and Toda, "Methods for Visual Understanding of
// Hierarchical System Structures", 1981: layers by the longest way, points of passage for
// edges over several layers, and orders by the mean place of the neighbours, layer by layer,
// to and fro.
type Layout struct {
	Layers [][]int   // the places in each layer, from its start to its end
	Paths  [][]int   // for each edge: the places that it passes, its ends included
	Layer  []int     // of each place
	Across []float64 // of each place: where it stands in its layer, 1 from one neighbour to the next
}

// sweeps is how often the layers are ordered, to and fro.
const sweeps = 12

// Lay lays out a graph. Places are the nodes, by their index, and behind them the points of
// passage.
func Lay(g *Graph) *Layout {
	l := &Layout{Layer: make([]int, len(g.Nodes))}
	edges := forward(g)
	for range g.Nodes { // longest ways; at most so many rounds are needed
		changed := false
		for _, e := range edges {
			if l.Layer[e.To] <= l.Layer[e.From] {
				l.Layer[e.To], changed = l.Layer[e.From]+1, true
			}
		}
		if !changed {
			break
		}
	}
	for n, layer := range slices.Clone(l.Layer) {
		l.put(n, layer)
	}
	neighbours := map[int][2][]int{} // of a place: in the layer before, and in the one behind
	link := func(a, b int) {
		x, y := neighbours[a], neighbours[b]
		x[1], y[0] = append(x[1], b), append(y[0], a)
		neighbours[a], neighbours[b] = x, y
	}
	l.Paths = make([][]int, len(g.Edges))
	for i, e := range edges {
		path := []int{e.From}
		for layer := l.Layer[e.From] + 1; layer < l.Layer[e.To]; layer++ {
			point := len(l.Layer)
			l.Layer = append(l.Layer, layer)
			l.put(point, layer)
			link(path[len(path)-1], point)
			path = append(path, point)
		}
		link(path[len(path)-1], e.To)
		l.Paths[i] = append(path, e.To)
	}
	l.order(neighbours)
	l.place(neighbours)
	return l
}

// forward returns the edges with those turned round that would lead back.
func forward(g *Graph) []Edge {
	edges := slices.Clone(g.Edges)
	for i, e := range edges {
		if e.From > e.To && leadsBack(g, e) {
			edges[i].From, edges[i].To = e.To, e.From
		}
	}
	return edges
}

// leadsBack reports whether a way leads from the end of an edge to its start.
func leadsBack(g *Graph, e Edge) bool {
	after, seen := g.after(), make([]bool, len(g.Nodes))
	open := []int{e.To}
	for len(open) > 0 {
		n := open[len(open)-1]
		open = open[:len(open)-1]
		if n == e.From {
			return true
		}
		for _, next := range after[n] {
			if !seen[next] {
				seen[next] = true
				open = append(open, next)
			}
		}
	}
	return false
}

func (l *Layout) put(place, layer int) {
	for len(l.Layers) <= layer {
		l.Layers = append(l.Layers, nil)
	}
	l.Layers[layer] = append(l.Layers[layer], place)
}

// order orders the places of each layer by the mean of their neighbours.
func (l *Layout) order(neighbours map[int][2][]int) {
	best, fewest := clone(l.Layers), l.crossings(neighbours)
	for sweep := range sweeps {
		side := sweep % 2 // to the neighbours before, then to those behind
		for i := range l.Layers {
			layer := l.Layers[i]
			if side == 1 {
				layer = l.Layers[len(l.Layers)-1-i]
			}
			at := l.positions()
			mean := map[int]float64{}
			for k, p := range layer {
				mean[p] = float64(k)
				if near := neighbours[p][side]; len(near) > 0 {
					sum := 0
					for _, n := range near {
						sum += at[n]
					}
					mean[p] = float64(sum) / float64(len(near))
				}
			}
			slices.SortStableFunc(layer, func(a, b int) int { return cmp.Compare(mean[a], mean[b]) })
		}
		if n := l.crossings(neighbours); n < fewest {
			best, fewest = clone(l.Layers), n
		}
	}
	l.Layers = best
}

func clone(layers [][]int) [][]int {
	out := make([][]int, len(layers))
	for i := range layers {
		out[i] = slices.Clone(layers[i])
	}
	return out
}

// positions returns where each place stands in its layer.
func (l *Layout) positions() []int {
	at := make([]int, len(l.Layer))
	for _, layer := range l.Layers {
		for k, p := range layer {
			at[p] = k
		}
	}
	return at
}

// crossings counts how often edges cross between two layers, up to a bound.
func (l *Layout) crossings(neighbours map[int][2][]int) int {
	at, count := l.positions(), 0
	for _, layer := range l.Layers {
		var ends []int // of the edges to the next layer, in the order of their starts
		for _, p := range layer {
			next := make([]int, 0, len(neighbours[p][1]))
			for _, n := range neighbours[p][1] {
				next = append(next, at[n])
			}
			slices.Sort(next)
			ends = append(ends, next...)
		}
		for i := range ends {
			for k := i + 1; k < min(len(ends), i+200); k++ {
				if ends[i] > ends[k] {
					count++
				}
			}
		}
	}
	return count
}

// place finds where each place stands: as near as it can be to the mean of its neighbours,
// at least one from the next one of its layer.
func (l *Layout) place(neighbours map[int][2][]int) {
	l.Across = make([]float64, len(l.Layer))
	for _, layer := range l.Layers {
		for k, p := range layer {
			l.Across[p] = float64(k) - float64(len(layer)-1)/2
		}
	}
	for round := range 2 * sweeps {
		for i := range l.Layers {
			layer := l.Layers[i]
			if round%2 == 1 {
				layer = l.Layers[len(l.Layers)-1-i]
			}
			l.settle(layer, neighbours)
		}
	}
	least := 0.0
	for _, x := range l.Across {
		least = min(least, x)
	}
	for i := range l.Across {
		l.Across[i] -= least
	}
}

// settle moves the places of a layer towards their neighbours, without changing the order.
func (l *Layout) settle(layer []int, neighbours map[int][2][]int) {
	want := make([]float64, len(layer))
	for k, p := range layer {
		near := slices.Concat(neighbours[p][0], neighbours[p][1])
		want[k] = l.Across[p]
		if len(near) > 0 {
			sum := 0.0
			for _, n := range near {
				sum += l.Across[n]
			}
			want[k] = sum / float64(len(near))
		}
	}
	low, high := slices.Clone(want), slices.Clone(want)
	for k := 1; k < len(layer); k++ {
		low[k] = max(low[k], low[k-1]+1)
	}
	for k := len(layer) - 2; k >= 0; k-- {
		high[k] = min(high[k], high[k+1]-1)
	}
	for k, p := range layer {
		l.Across[p] = (low[k] + high[k]) / 2
	}
}
