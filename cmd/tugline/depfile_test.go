//go:build unix

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// joined has a converter that joins the files that a page includes, and lists them.
const joined = `
[task.join]
reads = "page"
depfile = "build/page.d"
writes = "out"
folder = "."
run = '''
echo "out: page \\" >build/page.d
cp page out
for f in $(sed -n 's/^include //p' page); do cat "$f" >>out; echo "  $f \\" >>build/page.d; done
echo >>build/page.d
'''
[task.make]
writes = "made"
run = "echo made >made"
`

// What a program lists counts as what it reads: edits of it are seen, and undone, and what
// was made with other lists is found again, also in another checkout.
func TestADepfileTellsWhatIsRead(t *testing.T) {
	s := tell(t, joined)
	s.write("page", "include a\n")
	s.write("a", "1\n")
	s.write("b", "2\n")
	outside := filepath.Join(t.TempDir(), "outside")
	assert.Equal(t, "ran: first run here", s.states("join")["join"])
	assert.Equal(t, "unchanged", s.states("join")["join"])
	s.write("a", "one\n")
	assert.Equal(t, "run: a changed", s.planned("join")["join"])
	assert.Equal(t, "ran: a changed", s.states("join")["join"])
	assert.Contains(t, s.tugline("who", "a").stdout, "read by join")
	s.write("b", "two\n")
	assert.Equal(t, "unchanged", s.states("join")["join"], "it is not listed")
	s.write("a", "1\n")
	assert.Equal(t, "restored: a changed", s.states("join")["join"])
	require.NoError(t, os.Remove(filepath.Join(s.dir, "a")))
	assert.Contains(t, s.tugline("join").stdout+s.tugline("join").stderr, "failed", "it is gone")
	s.write("page", "include b\ninclude "+outside+"\n")
	require.NoError(t, os.WriteFile(outside, []byte("3\n"), 0o644))
	assert.Contains(t, s.states("join")["join"], "ran: ")
	require.NoError(t, os.WriteFile(outside, []byte("4\n"), 0o644))
	assert.Contains(t, s.states("join")["join"], "outside changed")
	assert.Equal(t, "include b\ninclude "+outside+"\ntwo\n4\n", s.read("out"))

	s.write("page", "include a\n")
	s.write("a", "one\n")
	assert.Contains(t, s.states("join")["join"], "restored: ", "as it was with another list")
	assert.Equal(t, "unchanged", s.states("join")["join"])
	other := s.checkout("tugline.toml", "page", "a")
	assert.Equal(t, "restored: first run here", other.states("join")["join"])
	other.write("a", "new\n")
	assert.Equal(t, "ran: a changed", other.states("join")["join"])
	assert.Equal(t, "include a\nnew\n", other.read("out"))
}

// A list that cannot be trusted is a failure that says so, or is not recorded.
func TestDepfilesThatCannotBeTrusted(t *testing.T) {
	s := tell(t, joined+`
[task.none]
depfile = "build/none.d"
run = "true"
[task.old]
depfile = "build/old.d"
reads = "page"
writes = "old.out"
run = 'cp page old.out; test -e build/old.d || echo page >build/old.d'
[task.changes]
depfile = "build/changes.d"
run = 'echo >>a; echo a >build/changes.d'
`)
	s.write("page", "include made\n")
	s.write("made", "by hand\n")
	s.write("a", "1\n")
	r := s.tugline("join")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, `its depfile lists made, which task "make" writes, and nothing orders that before it: name it in needs, or the file in reads`)
	assert.Contains(t, r.stderr, "tugline.toml:4:11")
	s.write("tugline.toml", strings.Replace(s.read("tugline.toml"), `reads = "page"`, `reads = ["page", "made"]`, 1))
	states := s.states("join")
	assert.Contains(t, states["join"], "ran: ")
	assert.Contains(t, states["make"], "ran: ")
	assert.Contains(t, s.tugline("none").stderr, "succeeded but did not write its depfile build/none.d")
	assert.Contains(t, s.states("old")["old"], "ran: ")
	s.write("page", "other\n")
	assert.Contains(t, s.tugline("old").stderr, "succeeded and wrote old.out, but not its depfile build/old.d")
	assert.Contains(t, s.states("changes")["changes"], "but a changed meanwhile: not recorded, it runs again next time")
}

// A C program is made again right after each edit, with a depfile alone.
func TestACProgramWithHeaders(t *testing.T) {
	if _, err := exec.LookPath("cc"); err != nil {
		t.Skip("there is no C compiler: cc")
	}
	s := tell(t, `
[task.compile]
each.unit = { list = ["main", "tide"] }
depfile = "obj/$unit.d"
writes = "obj/$unit.o"
run = 'cc -Iinc -MMD -MP -MF "obj/$unit.d" -c "src/$unit.c" -o "obj/$unit.o"'
[task.app]
reads = "obj/*.o"
writes = "app"
run = "cc -o app obj/*.o"
[task.say]
needs = "app"
echo = false
run = "./app"
`)
	s.write("src/main.c", "#include <stdio.h>\n#include \"tide.h\"\nint main(void) { printf(\"%d %d\\n\", tide(), LOW); return 0; }\n")
	s.write("src/tide.c", "#include \"tide.h\"\nint tide(void) { return HIGH; }\n")
	s.write("inc/tide.h", "#include \"marks.h\"\n#define LOW 1\nint tide(void);\n")
	s.write("inc/marks.h", "#define HIGH 7\n")
	says := func() string { return s.tugline("-q", "say").stdout }
	assert.Contains(t, says(), "7 1\n")
	s.write("inc/marks.h", "#define HIGH 8\n")
	assert.Contains(t, says(), "8 1\n")
	s.write("inc/tide.h", "#include \"marks.h\"\n#include \"low.h\"\nint tide(void);\n")
	s.write("inc/low.h", "#define LOW 2\n")
	assert.Contains(t, says(), "8 2\n")
	s.write("inc/low.h", "#define LOW 3\n")
	assert.Contains(t, says(), "8 3\n")
	s.write("src/tide.c", "int tide(void) { return 9; }\n")
	assert.Contains(t, says(), "9 3\n")
	s.write("inc/marks.h", "#define HIGH 10\n")
	last := s.tugline("app").stdout
	assert.Regexp(t, `unchanged +compile --unit tide`, last, "it includes nothing any more")
	assert.Regexp(t, `ran +compile --unit main .* inc/marks.h changed`, last)
}

// A watch hears of files that a program listed only in the last round.
func TestAWatchHearsWhatADepfileLists(t *testing.T) {
	s := tell(t, joined)
	s.write("page", "nothing\n")
	s.write("a", "1\n")
	w := s.watch("join")
	w.rounds(1)
	s.write("page", "include a\n")
	w.until("the page has a", func() bool { return s.holds("out", "include a\n1\n") })
	for _, text := range []string{"2\n", "3\n"} {
		s.write("a", text)
		w.until("the page has the new a", func() bool { return s.holds("out", "include a\n"+text) })
	}
	w.end()
}

// A watch hears that what made a task fail is mended, though only the depfile of the failed
// run lists it.
func TestAWatchHearsThatAListedFileIsMended(t *testing.T) {
	s := tell(t, "[task.t]\ndepfile = 't.d'\nwrites = 'out'\nrun = 'echo a >t.d; grep -q good a; cp a out'\n")
	s.write("a", "bad\n")
	w := s.watch("t")
	w.rounds(1)
	s.write("a", "good\n")
	w.until("it ran well", func() bool { return s.holds("out", "good\n") })
	w.end()
}
