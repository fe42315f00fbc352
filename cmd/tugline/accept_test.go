//go:build unix

package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is there can be taken for good without a run: after an edit that changes no result,
// or where an output was made elsewhere. It is never stored, and counts as edited.
func TestAcceptTakesWhatIsThereForGood(t *testing.T) {
	s := tell(t, `
[task.page]
each.port = { list = ["merrowick", "saltreach"] }
reads = "in"
writes = "$port.out"
run = 'cat in >"$port.out"; echo "$port" >>ran'
[task.pack]
reads = "*.out"
writes = "pack"
run = "cat *.out >pack"
[task.always]
run = "true"
[task.group]
needs = ["page"]
`)
	s.write("in", "1\n")
	r := s.tugline("accept", "page")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `"page --port merrowick" cannot be accepted: $port.out, which it writes, is missing`)
	require.Equal(t, 0, s.tugline("pack").code)
	edit := func(from, to string) { s.write("tugline.toml", strings.ReplaceAll(s.read("tugline.toml"), from, to)) }

	edit("cat in >", "cat <in >")
	r = s.tugline("accept", "page")
	assert.Equal(t, result{0, "accepted  page --port merrowick  command changed\naccepted  page --port saltreach  command changed\n", ""}, r)
	assert.Equal(t, 0, s.tugline("plan", "--check", "pack").code)
	assert.Contains(t, s.tugline("accept", "page").stdout, "nothing to accept")

	s.write("saltreach.out", "by hand\n")
	r = s.tugline("accept", "page", "--port", "saltreach")
	assert.Equal(t, "accepted  page --port saltreach  output saltreach.out was changed\n          made by no run: saltreach.out\n", r.stdout)
	assert.Equal(t, 0, s.tugline("plan", "--check", "page").code)
	assert.Contains(t, s.tugline("why", "page", "--port", "saltreach").stdout, "accepted without running it")
	assert.Contains(t, s.tugline("who", "saltreach.out").stdout, "accepted 2")
	assert.Equal(t, "merrowick.out\n", s.tugline("sweep", "-n", "page").stdout)
	assert.Equal(t, "merrowick.out\nsaltreach.out\n", s.tugline("sweep", "-n", "--edited", "page").stdout)

	require.NoError(t, os.Remove(filepath.Join(s.dir, "saltreach.out")))
	require.Equal(t, 0, s.tugline("page").code)
	assert.Equal(t, "1\n", s.read("saltreach.out"), "what was accepted is not stored")

	assert.Contains(t, s.tugline("accept", "always").stderr, `"always" declares neither reads nor writes: it always runs`)
	assert.Contains(t, s.tugline("accept", "group").stderr, `"group" has no commands of its own`)
	assert.Equal(t, 2, s.tugline("accept").code)
}
