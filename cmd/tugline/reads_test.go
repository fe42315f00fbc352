//go:build unix

package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A pattern of reads that matches nothing is told, also of a task that is unchanged; what
// another task is to write is not missed before.
func TestReadsThatMatchNothingAreTold(t *testing.T) {
	s := tell(t, `
[task.page]
reads = ["gauges/*.cvs", "scripts/page.awk", "made/*"]
writes = "out"
run = "touch out"
[task.make]
writes = "made/x"
run = "touch made/x"
[task.each]
each.n = { list = ["a", "b"] }
reads = "notes/$n.txt"
run = "true"
[task.none]
each.n = { list = ["a", "b"] }
reads = "letters/$n.txt"
run = "true"
`)
	s.write("gauges/a.csv", "1")
	s.write("scripts/pages.awk", "")
	s.write("notes/a.txt", "")
	told := "nothing matches gauges/*.cvs, which page reads (tugline.toml:3:10); did you mean gauges/*.csv?\n" +
		"nothing matches scripts/page.awk, which page reads (tugline.toml:3:26); did you mean scripts/pages.awk?\n"
	instances := "nothing matches letters/$n.txt, which none reads (tugline.toml:15:9)\n"
	all := []string{"page", "each", "none"}
	assert.Contains(t, s.tugline(append([]string{"plan"}, all...)...).stdout, told+instances+"\n")
	for _, state := range []string{"ran", "unchanged"} {
		r := s.tugline(all...)
		assert.Contains(t, r.stdout, state+" ")
		assert.Contains(t, r.stderr, told+instances)
		assert.NotContains(t, r.stderr, "notes")
	}
	r := s.tugline("doctor")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.stderr, `warning: nothing matches gauges/*.cvs, which task "page" reads`)
	assert.Contains(t, r.stderr, "did you mean gauges/*.csv?")
	s.write("gauges/b.cvs", "")
	s.write("scripts/page.awk", "")
	assert.NotContains(t, s.tugline("page").stderr, "nothing matches")
}
