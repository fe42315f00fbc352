package graph

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/plan"
	"tugline/internal/project"
)

func of(t *testing.T, text string, each bool, calls ...string) *Graph {
	t.Helper()
	p, err := project.Parse("/almanac/tugline.toml", "tugline.toml", []byte(text))
	require.NoError(t, err)
	req := plan.Request{OS: "linux"}
	for _, c := range calls {
		req.Calls = append(req.Calls, project.Call{Text: c, Name: c})
	}
	pl, err := plan.New(p, req)
	require.NoError(t, err)
	return Of(pl, each)
}

// edges writes the edges of a graph, one a line.
func edges(g *Graph) string {
	var lines []string
	for _, e := range g.Edges {
		lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s > %s %s %s", g.Nodes[e.From].Name, g.Nodes[e.To].Name, e.Kind, strings.Join(e.Files, " "))))
	}
	return strings.Join(lines, "\n")
}

const shapes = `
[task.page]
each.port = { list = ["a", "b"] }
reads = "in/$port"
writes = "out/$port"
needs = ['fetch --port "$port"']
run = "x"
[task.fetch]
args.port = {}
writes = "in/$port"
run = "x"
[task.pack]
reads = "out/*"
run = "x"
[task.release]
calls = ["pack", ["tell", "mark"], "open"]
then = ["note"]
finally = ["tidy"]
at_end = ["report"]
[task.tell]
run = "x"
[task.mark]
run = "x"
[task.open]
run = "x"
[task.note]
run = "x"
[task.tidy]
run = "x"
[task.report]
run = "x"
`

func TestShape(t *testing.T) {
	assert.Equal(t, "fetch > page files in/$port\npage > pack files out/*", edges(of(t, shapes, false, "pack")))
	g := of(t, shapes, false, "pack")
	assert.Equal(t, 2, g.Nodes[1].Instances)
	assert.Equal(t, strings.Join([]string{
		"fetch --port a > page --port a files in/$port", "fetch --port b > page --port b files in/$port",
		"page --port a > pack files out/*", "page --port b > pack files out/*",
	}, "\n"), edges(of(t, shapes, true, "pack")))
	released := edges(of(t, shapes, false, "release").Reduced())
	for _, want := range []string{"pack > tell order", "pack > mark order", "tell > open order", "mark > open order", "open > release calls", "release > note then"} {
		assert.Contains(t, released, want)
	}
	assert.NotContains(t, released, "pack > release", "it is implied")
	assert.NotContains(t, released, "release > pack")
	assert.Contains(t, edges(of(t, shapes, false, "release")), "release > report at_end")
}

// In a layout each node stands behind all that come before it, and nodes of a layer do not
// stand on each other.
func TestLayout(t *testing.T) {
	for seed := range int64(20) {
		random := rand.New(rand.NewSource(seed))
		var b strings.Builder
		b.WriteString("[task.all]\nneeds = [")
		const n = 60
		for i := range n {
			fmt.Fprintf(&b, "'t%d', ", i)
		}
		b.WriteString("]\n")
		for i := range n {
			fmt.Fprintf(&b, "[task.t%d]\nrun = 'x'\n", i)
			if i > 3 {
				fmt.Fprintf(&b, "needs = ['t%d', 't%d']\n", i-1-random.Intn(4), i/2-1)
			}
		}
		g := of(t, strings.ReplaceAll(b.String(), "needs = ['t3', 't3']", "needs = ['t3']"), false, "all").Reduced()
		l := Lay(g)
		for i, e := range g.Edges {
			assert.Less(t, l.Layer[e.From], l.Layer[e.To])
			assert.Equal(t, e.From, l.Paths[i][0])
			assert.Len(t, l.Paths[i], l.Layer[e.To]-l.Layer[e.From]+1)
		}
		for _, layer := range l.Layers {
			for k := 1; k < len(layer); k++ {
				assert.GreaterOrEqual(t, l.Across[layer[k]]-l.Across[layer[k-1]], 0.999)
			}
		}
	}
}
