package output

import (
	"errors"
	"fmt"
	"html"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"

	"tugline/internal/engine"
	"tugline/internal/graph"
	"tugline/internal/history"
)

// GraphFormats are the formats in which a graph can be written.
var GraphFormats = []string{"tree", "dot", "mermaid", "svg", "json"}

// DrawnGraph is a graph with what a run says of it.
type DrawnGraph struct {
	*graph.Graph
	Run *history.Run // nil: none
}

// nodeRun is what a run says of a node.
type nodeRun struct {
	State engine.State // the worst of its steps; empty: it was not in the run
	Took  time.Duration
}

// text returns the state and the time behind a separator; empty: it was not in the run.
func (r nodeRun) text(separator string) string {
	if r.State == "" {
		return ""
	}
	return separator + string(r.State) + " " + duration(r.Took)
}

// worst orders states, the worst first.
var worst = []engine.State{engine.Failed, engine.Blocked, engine.Stopped, engine.Ran, engine.Restored, engine.Unchanged, engine.Skipped}

// ran returns what the run says of each node.
func (g DrawnGraph) ran() []nodeRun {
	all := make([]nodeRun, len(g.Nodes))
	if g.Run == nil {
		return all
	}
	byName := map[string]*history.RunStep{}
	for i := range g.Run.Steps {
		byName[g.Run.Steps[i].Name] = &g.Run.Steps[i]
	}
	for i, n := range g.Nodes {
		for _, s := range n.Steps {
			step := byName[s.Name]
			if step == nil {
				continue
			}
			state := engine.State(step.State)
			if all[i].State == "" || slices.Index(worst, state) < slices.Index(worst, all[i].State) {
				all[i].State = state
			}
			all[i].Took += time.Duration(step.Ms) * time.Millisecond
		}
	}
	return all
}

// nodeLabel returns the name of a node, with the number of its instances.
func nodeLabel(n graph.Node) string {
	if n.Instances > 0 {
		return fmt.Sprintf("%s (%d)", n.Name, n.Instances)
	}
	return n.Name
}

// WriteGraph writes a graph in a format.
func WriteGraph(w io.Writer, g DrawnGraph, format string, st Style) error {
	text := ""
	switch format {
	case "dot":
		text = dotGraph(g)
	case "mermaid":
		text = mermaidGraph(g)
	case "svg":
		text = svgGraph(g)
	case "json":
		return graphJSON(w, g)
	default:
		var err error
		if text, err = treeGraph(g, st); err != nil {
			return err
		}
	}
	_, err := io.WriteString(w, text)
	return err
}

// treeGraph draws a graph for a terminal: a line for each node, in the order in which they
// may start, with a lane for each node that others still wait for. A line leads from a node
// down to those that come after it; what stands in lanes side by side does not wait for each
// other.
func treeGraph(g DrawnGraph, st Style) (string, error) {
	g.Graph = g.Reduced()
	into, open := g.Into(), make([]int, len(g.Nodes))
	for _, e := range g.Edges {
		open[e.From]++
	}
	ran := g.ran()
	var lanes []int // the node of each lane; -1: it is free
	type line struct{ art, name, about string }
	var lines []line
	artWidth, nameWidth := 0, 0
	for _, v := range startOrder(g.Graph) {
		var from []int // the lanes of what comes before
		ends := map[int]bool{}
		for _, e := range into[v] {
			at := slices.Index(lanes, e.From)
			if at < 0 {
				continue
			}
			from = append(from, at)
			if open[e.From]--; open[e.From] == 0 {
				ends[at] = true
			}
		}
		slices.Sort(from)
		own := -1
		for _, at := range from {
			if ends[at] {
				own = at
				break
			}
		}
		for at := range lanes {
			if own < 0 && lanes[at] < 0 && (len(from) == 0 || at > from[0]) {
				own = at
			}
		}
		if own < 0 {
			if own = len(lanes); own == maxLanes {
				return "", ErrTooWide
			}
			lanes = append(lanes, -1)
		}
		art := laneArt(lanes, from, ends, own)
		for at := range ends {
			lanes[at] = -1
		}
		lanes[own] = -1
		if open[v] > 0 {
			lanes[own] = v
		}
		for len(lanes) > 0 && lanes[len(lanes)-1] < 0 {
			lanes = lanes[:len(lanes)-1]
		}
		n := g.Nodes[v]
		about := aboutNode(n, into[v], g.Graph)
		if ran[v].State != "" {
			about = strings.TrimRight(st.state(ran[v].State, pad(string(ran[v].State), stateWidth))+" "+pad(duration(ran[v].Took), 7)+" "+st.faint(about), " ")
		} else {
			about = st.faint(about)
		}
		lines = append(lines, line{art, printable(nodeLabel(n)), about})
		artWidth, nameWidth = max(artWidth, runewidth.StringWidth(art)), max(nameWidth, min(maxName, runewidth.StringWidth(printable(nodeLabel(n)))))
	}
	var b strings.Builder
	for i := range lines {
		l := &lines[i]
		b.WriteString(strings.TrimRight(pad(l.art, artWidth)+"  "+st.bold(pad(l.name, nameWidth))+"  "+l.about, " ") + "\n")
	}
	return b.String(), nil
}

// maxLanes is how many lanes a drawing for a terminal may have.
const maxLanes = 40

// ErrTooWide says that a graph has too many lanes for a terminal.
var ErrTooWide = errors.New("too many tasks stand side by side for a drawing on a terminal")

// startOrder returns the nodes so that each stands behind all that come before it, else in
// the order of the plan.
func startOrder(g *graph.Graph) []int {
	waits := make([]int, len(g.Nodes))
	after := make([][]int, len(g.Nodes))
	for _, e := range g.Edges {
		waits[e.To]++
		after[e.From] = append(after[e.From], e.To)
	}
	done, order := make([]bool, len(g.Nodes)), []int{}
	var take func(v int)
	take = func(v int) {
		done[v] = true
		order = append(order, v)
		for _, next := range after[v] {
			if waits[next]--; waits[next] == 0 && !done[next] {
				take(next)
			}
		}
	}
	for v := range g.Nodes {
		if !done[v] && waits[v] == 0 {
			take(v)
		}
	}
	for v := range g.Nodes { // of circles among instances
		if !done[v] {
			order = append(order, v)
		}
	}
	return order
}

// laneArt draws the lanes at the line of one node: from are the lanes of what comes before,
// of which some end here, and own is that of the node.
func laneArt(lanes, from []int, ends map[int]bool, own int) string {
	left, right := own, own
	for _, at := range from {
		left, right = min(left, at), max(right, at)
	}
	var b strings.Builder
	for at := range max(len(lanes), own+1) {
		inside := at >= left && at < right
		comes := slices.Contains(from, at)
		live := at < len(lanes) && lanes[at] >= 0
		switch {
		case at == own:
			b.WriteString("■")
		case comes && ends[at] && at == left:
			b.WriteString("└")
		case comes && ends[at] && at == right:
			b.WriteString("┘")
		case comes && ends[at]:
			b.WriteString("┴")
		case comes && at == left:
			b.WriteString("├")
		case comes && at == right:
			b.WriteString("┤")
		case comes:
			b.WriteString("┼")
		case live:
			b.WriteString("│")
		case at > left && at < right:
			b.WriteString("─")
		default:
			b.WriteString(" ")
		}
		if inside {
			b.WriteString("─")
		} else {
			b.WriteString(" ")
		}
	}
	return b.String()
}

// aboutNode tells through what a node comes after others, where that is no plain need.
func aboutNode(n graph.Node, into []graph.Edge, g *graph.Graph) string {
	var parts []string
	if n.Service {
		parts = append(parts, "service")
	}
	if n.Group {
		parts = append(parts, "group")
	}
	byKind, byFiles := map[graph.Kind][]string{}, map[string][]string{}
	var files []string
	for _, e := range into {
		switch e.Kind {
		case graph.Files:
			read := strings.Join(e.Files, " and ")
			if byFiles[read] == nil {
				files = append(files, read)
			}
			byFiles[read] = append(byFiles[read], g.Nodes[e.From].Name)
		case graph.Needs:
		default:
			byKind[e.Kind] = append(byKind[e.Kind], g.Nodes[e.From].Name)
		}
	}
	for _, read := range files {
		parts = append(parts, fmt.Sprintf("reads %s of %s", read, strings.Join(byFiles[read], ", ")))
	}
	for _, k := range []struct {
		kind graph.Kind
		verb string
	}{{graph.Calls, "calls"}, {"then", "then, after"}, {"if_failed", "if_failed of"}, {"finally", "finally of"}, {"at_end", "at_end of"}} {
		if names := byKind[k.kind]; len(names) > 0 {
			parts = append(parts, k.verb+" "+strings.Join(names, ", "))
		}
	}
	return strings.Join(parts, "; ")
}

// edgeText is what is written at an edge.
func edgeText(e graph.Edge) string {
	switch e.Kind {
	case graph.Needs, graph.Order:
		return ""
	case graph.Files:
		return strings.Join(e.Files, ", ")
	}
	return string(e.Kind)
}

// dotGraph writes a graph in the DOT language of graph drawing programs.
func dotGraph(g DrawnGraph) string {
	var b strings.Builder
	b.WriteString("digraph tasks {\n  rankdir=LR;\n  node [shape=box];\n")
	ran := g.ran()
	for i, n := range g.Nodes {
		text := nodeLabel(n) + ran[i].text("\n")
		fmt.Fprintf(&b, "  n%d [label=%s%s];\n", i, strconv.Quote(text), map[bool]string{true: ", style=dashed"}[n.Group])
	}
	for _, e := range g.Edges {
		var attributes []string
		if text := edgeText(e); text != "" {
			attributes = append(attributes, "label="+strconv.Quote(text))
		}
		if e.Kind != graph.Needs && e.Kind != graph.Files {
			attributes = append(attributes, "style=dashed")
		}
		fmt.Fprintf(&b, "  n%d -> n%d", e.From, e.To)
		if len(attributes) > 0 {
			b.WriteString(" [" + strings.Join(attributes, ", ") + "]")
		}
		b.WriteString(";\n")
	}
	return b.String() + "}\n"
}

// mermaidGraph writes a graph as text that many pages of code hosts draw.
func mermaidGraph(g DrawnGraph) string {
	quote := strings.NewReplacer(`"`, "#quot;", "\n", " ").Replace
	var b strings.Builder
	b.WriteString("flowchart LR\n")
	ran := g.ran()
	for i, n := range g.Nodes {
		text := nodeLabel(n) + ran[i].text(" · ")
		fmt.Fprintf(&b, "  n%d[\"%s\"]\n", i, quote(text))
	}
	for _, e := range g.Edges {
		arrow := "-->"
		if e.Kind != graph.Needs && e.Kind != graph.Files {
			arrow = "-.->"
		}
		if text := edgeText(e); text != "" {
			arrow += "|\"" + quote(text) + "\"|"
		}
		fmt.Fprintf(&b, "  n%d %s n%d\n", e.From, arrow, e.To)
	}
	return b.String()
}

// jsonNode and jsonEdge are a graph as JSON.
type jsonNode struct {
	Name      string  `json:"name"`
	Task      string  `json:"task"`
	Instances *int    `json:"instances"` // null: it is one call
	Group     bool    `json:"group"`
	Service   bool    `json:"service"`
	State     *string `json:"state"` // of a run
	Ms        *int64  `json:"ms"`
}

type jsonEdge struct {
	From  string   `json:"from"`
	To    string   `json:"to"`
	Kind  string   `json:"kind"`
	Files []string `json:"files"`
}

func graphJSON(w io.Writer, g DrawnGraph) error {
	nodes, edges, ran := []jsonNode{}, []jsonEdge{}, g.ran()
	for i, n := range g.Nodes {
		out := jsonNode{Name: n.Name, Task: n.Task.Name, Group: n.Group, Service: n.Service}
		if n.Instances > 0 {
			out.Instances = &n.Instances
		}
		if ran[i].State != "" {
			state, ms := string(ran[i].State), ran[i].Took.Milliseconds()
			out.State, out.Ms = &state, &ms
		}
		nodes = append(nodes, out)
	}
	for _, e := range g.Edges {
		edges = append(edges, jsonEdge{g.Nodes[e.From].Name, g.Nodes[e.To].Name, string(e.Kind), append([]string{}, e.Files...)})
	}
	return JSON(w, map[string]any{"nodes": nodes, "edges": edges})
}

// Sizes of a drawing, in pixels.
const (
	boxHeight  = 40
	rowHeight  = 60
	layerSpace = 72
	margin     = 24
	charWidth  = 7.8 // of a letter of 13 pixels, wide ones counted twice
	smallWidth = 6.2 // of one of 11 pixels
)

// svgGraph draws a graph as SVG, from left to right.
func svgGraph(g DrawnGraph) string {
	g.Graph = g.Reduced()
	l := graph.Lay(g.Graph)
	ran := g.ran()
	into, second := g.Into(), make([]string, len(g.Nodes))
	widths := make([]float64, len(l.Layers))
	for i, n := range g.Nodes {
		var parts []string
		if text := ran[i].text(""); text != "" {
			parts = append(parts, text)
		}
		if n.Group {
			parts = append(parts, "group")
		}
		if n.Service {
			parts = append(parts, "service")
		}
		if read := filesInto(into[i]); read != "" {
			parts = append(parts, "reads "+cutMiddle(read, maxRead))
		}
		second[i] = strings.Join(parts, " · ")
		width := max(charWidth*float64(runewidth.StringWidth(nodeLabel(n))), smallWidth*float64(runewidth.StringWidth(second[i]))) + 28
		widths[l.Layer[i]] = max(widths[l.Layer[i]], width)
	}
	lefts := make([]float64, len(l.Layers))
	x := float64(margin)
	for i, width := range widths {
		lefts[i] = x
		x += width + layerSpace
	}
	bottom := 0.0
	for _, across := range l.Across {
		bottom = max(bottom, across)
	}
	width, height := x-layerSpace+margin, bottom*rowHeight+boxHeight+2*margin
	y := func(place int) float64 { return margin + l.Across[place]*rowHeight + boxHeight/2 }
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" width="%.0f" height="%.0f" viewBox="0 0 %.0f %.0f" role="img" aria-label="The order of %d tasks" font-family="system-ui, sans-serif" font-size="13">`+"\n", width, height, width, height, len(g.Nodes))
	b.WriteString(svgStyle)
	fmt.Fprintf(&b, "<rect class=\"ground\" width=\"%.0f\" height=\"%.0f\"/>\n", width, height)
	for i, e := range g.Edges {
		path := l.Paths[i]
		class := "line"
		if e.Kind != graph.Needs && e.Kind != graph.Files {
			class = "line dashed"
		}
		fmt.Fprintf(&b, `<path class="%s" marker-end="url(#tip)" d="%s"><title>%s</title></path>`+"\n", class, curve(path, l, lefts, widths, y), html.EscapeString(edgeTitle(e, g.Graph)))
	}
	for i, n := range g.Nodes {
		left, top := lefts[l.Layer[i]], y(i)-boxHeight/2
		class := "box"
		if n.Group {
			class += " group"
		}
		if ran[i].State != "" {
			class += " " + string(ran[i].State)
		}
		fmt.Fprintf(&b, `<g><title>%s</title>`, html.EscapeString(strings.TrimSpace(n.Name+"\n"+n.Task.Summary())))
		if n.Instances > 1 {
			fmt.Fprintf(&b, `<rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%d" rx="6"/>`, class, left+5, top+5, widths[l.Layer[i]], boxHeight)
		}
		fmt.Fprintf(&b, `<rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%d" rx="6"/>`, class, left, top, widths[l.Layer[i]], boxHeight)
		first := y(i) + 4.5
		if second[i] != "" {
			first = y(i) - 3
			fmt.Fprintf(&b, `<text class="small" x="%.1f" y="%.1f">%s</text>`, left+14, y(i)+13, html.EscapeString(second[i]))
		}
		fmt.Fprintf(&b, `<text class="name" x="%.1f" y="%.1f">%s</text></g>`+"\n", left+14, first, html.EscapeString(nodeLabel(n)))
	}
	return b.String() + "</svg>\n"
}

// maxRead is how much of the names of files stands in a box, in columns.
const maxRead = 36

// filesInto returns the patterns through which a node comes after others.
func filesInto(into []graph.Edge) string {
	var files []string
	for _, e := range into {
		for _, f := range e.Files {
			if !slices.Contains(files, f) {
				files = append(files, f)
			}
		}
	}
	return strings.Join(files, ", ")
}

// edgeTitle says in a sentence what an edge means.
func edgeTitle(e graph.Edge, g *graph.Graph) string {
	from, to := g.Nodes[e.From].Name, g.Nodes[e.To].Name
	switch e.Kind {
	case graph.Files:
		return fmt.Sprintf("%s reads %s, which %s writes", to, strings.Join(e.Files, " and "), from)
	case graph.Needs:
		return fmt.Sprintf("%s needs %s", to, from)
	case graph.Calls:
		return fmt.Sprintf("%s calls %s", to, from)
	case graph.Order:
		return fmt.Sprintf("%s comes after %s", to, from)
	}
	return fmt.Sprintf("%s calls %s in %s", from, to, e.Kind)
}

// curve draws an edge through the places that it passes.
func curve(path []int, l *graph.Layout, lefts, widths []float64, y func(int) float64) string {
	var b strings.Builder
	right := func(place int) float64 { return lefts[l.Layer[place]] + widths[l.Layer[place]] }
	fmt.Fprintf(&b, "M%.1f %.1f", right(path[0]), y(path[0]))
	for i := 1; i < len(path); i++ {
		fromX, toX := right(path[i-1]), lefts[l.Layer[path[i]]]
		last := i == len(path)-1
		if last {
			toX -= 7 // for the tip
		}
		middle := (fromX + toX) / 2
		fmt.Fprintf(&b, " C%.1f %.1f %.1f %.1f %.1f %.1f", middle, y(path[i-1]), middle, y(path[i]), toX, y(path[i]))
		if !last {
			fmt.Fprintf(&b, " H%.1f", right(path[i]))
		}
	}
	return b.String()
}

// svgStyle holds the colours of a drawing, for light and dark grounds.
const svgStyle = `<style>
.ground { fill: #fbfaf7 } .box { fill: #ffffff; stroke: #54616c; stroke-width: 1.2 } .group { stroke-dasharray: 4 3 }
.name { fill: #17212a; font-weight: 600 } .small { fill: #54616c; font-size: 11px }
.line { fill: none; stroke: #8a959e; stroke-width: 1.4 } .dashed { stroke-dasharray: 5 4 } .tip { fill: #8a959e }
.ran { fill: #e3f3ec; stroke: #177a55 } .restored { fill: #e6effa; stroke: #2d62a3 } .unchanged { fill: #eef1f3; stroke: #7a868f } .skipped { fill: #f5f5f3; stroke: #a3a9ad }
.failed { fill: #fbe4df; stroke: #b3311c; stroke-width: 2 } .blocked { fill: #fdf1d8; stroke: #9a6a00 } .stopped { fill: #f3e6f4; stroke: #7d3f86 }
@media (prefers-color-scheme: dark) {
.ground { fill: #12181d } .box { fill: #1d262d; stroke: #93a1ac } .name { fill: #eef2f4 } .small { fill: #b4bfc7 } .line { stroke: #76838d } .tip { fill: #76838d }
.ran { fill: #14392b; stroke: #4dbf92 } .restored { fill: #17304c; stroke: #76a9e6 } .unchanged { fill: #232c33; stroke: #83909a } .skipped { fill: #1b2126; stroke: #626d75 }
.failed { fill: #4a1c14; stroke: #ee7b66 } .blocked { fill: #40300c; stroke: #dcae4d } .stopped { fill: #37203b; stroke: #c58fcd }
}
</style>
<defs><marker id="tip" viewBox="0 0 8 8" refX="1" refY="4" markerWidth="7" markerHeight="7" orient="auto"><path class="tip" d="M0 0 L8 4 L0 8 z"/></marker></defs>
`
