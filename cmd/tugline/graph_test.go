//go:build unix

package main

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const drawn = `
default = "pack"
[task.clean]
each.port = { list = ["merrowick", "saltreach"] }
reads  = "gauges/$port.csv"
writes = "clean/$port.csv"
run = 'cp "gauges/$port.csv" "clean/$port.csv"'
[task.chart]
reads  = "clean/*.csv"
writes = "chart"
run = "cat clean/*.csv >chart"
[task.sum]
reads  = "clean/*.csv"
writes = "sum"
run = "exit 3"
[task.pack]
needs = ["chart", "sum"]
run = 'echo "<&>"'
`

// The shape of the work: a drawing in which what can run side by side stands side by side,
// and a shared step once.
func TestGraph(t *testing.T) {
	s := tell(t, drawn)
	s.write("gauges/merrowick.csv", "1")
	s.write("gauges/saltreach.csv", "1")
	r := s.tugline("graph")
	assert.Equal(t, result{0, `■     clean (2)
├─■   chart      reads clean/*.csv of clean
■ │   sum        reads clean/*.csv of clean
■─┘   pack
`, ""}, r)
	assert.Equal(t, 5, strings.Count(s.tugline("graph", "--each").stdout, "■"))
	dot := s.tugline("graph", "--format", "dot", "sum").stdout
	assert.Equal(t, "digraph tasks {\n  rankdir=LR;\n  node [shape=box];\n  n0 [label=\"clean (2)\"];\n  n1 [label=\"sum\"];\n  n0 -> n1 [label=\"clean/*.csv\"];\n}\n", dot)
	assert.Contains(t, s.tugline("graph", "--format", "mermaid", "sum").stdout, "n0 -->|\"clean/*.csv\"| n1\n")

	require.Equal(t, 1, s.tugline("-j", "1", "--after-failure", "continue").code)
	assert.Regexp(t, `■ │   sum +failed +\d\S+ +reads`, s.tugline("graph", "--run", "latest").stdout)
	var g struct {
		Nodes []struct {
			Name      string
			Instances *int
			State     *string
		}
		Edges []struct {
			From, To, Kind string
			Files          []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(s.tugline("graph", "--format", "json", "--run", "latest").stdout), &g))
	assert.Equal(t, "clean", g.Nodes[0].Name)
	assert.Equal(t, 2, *g.Nodes[0].Instances)
	assert.Equal(t, "ran", *g.Nodes[0].State)
	assert.Equal(t, []string{"clean/*.csv"}, g.Edges[0].Files)

	svg := s.tugline("graph", "--format", "svg", "--run", "latest").stdout
	boxes := 0
	for d := xml.NewDecoder(strings.NewReader(svg)); ; {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		if e, ok := token.(xml.StartElement); ok && e.Name.Local == "g" {
			boxes++
		}
	}
	assert.Equal(t, 4, boxes)
	assert.Contains(t, svg, `class="box failed"`)
	assert.Contains(t, svg, "prefers-color-scheme: dark")
	assert.Contains(t, svg, "<title>chart reads clean/*.csv, which clean writes</title>")

	assert.Contains(t, s.tugline("graph", "--format", "png").stderr, "--format must be tree, dot, mermaid, svg, json")
	var wide strings.Builder
	wide.WriteString("[task.all]\nneeds = [")
	for i := range 100 {
		fmt.Fprintf(&wide, "'t%d', ", i)
	}
	wide.WriteString("]\n")
	for i := range 100 {
		fmt.Fprintf(&wide, "[task.t%d]\nrun = 'x'\n", i)
	}
	s.write("tugline.toml", wide.String())
	assert.Contains(t, s.tugline("graph", "all").stderr, "tugline graph --format svg")
}
