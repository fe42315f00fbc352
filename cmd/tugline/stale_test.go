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

const pages = `
[task.site]
reads = "pages/*.md"
writes = "out/*.html"
run = 'for p in pages/*.md; do n=${p##*/}; cat "$p" >"out/${n%.md}.html"; done'
[task.pack]
reads = "out/*.html"
writes = "all"
run = 'cat out/*.html >all'
[task.named]
reads = "names"
writes = "named/*"
run = 'while read -r n; do echo "$n" >named/"$n"; done <names'
[task.folders]
reads = "docs/*.md"
writes = "site/"
run = 'for p in docs/*.md; do test -e "$p" || continue; n=${p##*/}; mkdir -p "site/${n%.md}"; cat "$p" >"site/${n%.md}/index.html"; done'
[task.compile]
reads = "src/*.c"
writes = "obj/*"
run = 'for c in src/*.c; do o=obj/${c##*/}; cmp -s "$c" "$o" || cp "$c" "$o"; done; : >obj/stamp'
`

// What a run no longer makes, though the last one did, is named, and goes with sweep;
// what a program only did not need to write again is not.
func TestWhatIsNoLongerMadeIsStale(t *testing.T) {
	s := tell(t, pages)
	for _, name := range []string{"pages/a.md", "pages/b.md", "pages/c.md", "src/a.c", "src/b.c"} {
		s.write(name, name+"\n")
	}
	s.write("names", "ash\nbay\ncove\n")
	require.Equal(t, 0, s.tugline("pack", "named", "compile").code)

	s.write("src/a.c", "other\n")
	assert.Equal(t, "ran: src/a.c changed", s.states("compile")["compile"], "it left what was as it should be")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "pages/b.md")))
	s.write("names", "ash\ncove\n")
	got := s.states("pack", "named")
	assert.Equal(t, "ran: pages/b.md is gone; stale: out/b.html; tugline sweep --stale deletes it", got["site"])
	assert.Equal(t, "ran: names changed; stale: named/bay; tugline sweep --stale deletes it", got["named"])
	assert.Contains(t, s.tugline("doctor").stderr, "stale: out/b.html, made by \"site\"")
	assert.Equal(t, "unchanged", s.states("site")["site"])
	assert.Equal(t, "named/bay\nout/b.html\n", s.tugline("sweep", "--stale").stdout)
	got = s.states("pack", "named")
	assert.Equal(t, "unchanged", got["site"], "what was swept is not missed")
	assert.Equal(t, "unchanged", got["named"])
	assert.NotContains(t, s.read("all"), "pages/b.md")

	s.write("docs/only.md", "1\n")
	s.states("folders")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "docs/only.md")))
	assert.Equal(t, "ran: docs/only.md is gone; stale: site/only/index.html; tugline sweep --stale deletes it", s.states("folders")["folders"])

	s.write("pages/b.md", "pages/b.md\n") // as another branch has it
	assert.Equal(t, "restored: pages/b.md is new", s.states("site")["site"])
	assert.Contains(t, s.read("out/b.html"), "pages/b.md")
	require.NoError(t, os.Rename(filepath.Join(s.dir, "pages/b.md"), filepath.Join(s.dir, "pages/d.md")))
	assert.Contains(t, s.states("site")["site"], "stale: out/b.html;")
	s.write("out/b.html", "mine now")
	assert.NotContains(t, s.tugline("sweep", "--stale").stdout, "out/b.html", "it was edited since")
}

// What other patterns mean now is stale, unless another task makes it.
func TestOutputsOfOtherPatternsAreStale(t *testing.T) {
	s := tell(t, pages)
	s.write("pages/a.md", "a\n")
	s.states("site")
	elsewhere := strings.ReplaceAll(pages, ".html", ".htm")
	s.write("tugline.toml", elsewhere+"[task.old]\nwrites = 'out/a.html'\nrun = 'echo old >out/a.html'\n")
	assert.NotContains(t, s.states("site")["site"], "stale")
	s.write("tugline.toml", elsewhere)
	assert.Contains(t, s.states("--force", "site")["site"], "stale: out/a.html;")
	assert.Equal(t, "out/a.html\n", s.tugline("sweep", "--stale").stdout)
	assert.Equal(t, "unchanged", s.states("site")["site"])
}
