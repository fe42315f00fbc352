//go:build unix

package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a part reads and writes counts from its own folder, and its files put
// tasks of other parts in order.
func TestFilesOfParts(t *testing.T) {
	s := tell(t, `
ignore = ["**/*.tmp"]
[parts]
gauges = "gauges"
pages  = "pages"
[task.all]
needs = ["pages/make"]
`)
	s.write("gauges/tugline.toml", `
ignore = ["raw/bad-*"]
[task.clean]
reads = "raw"
writes.out = "../build/clean.txt"
folder = "raw"
run = 'cat * >"$out"; echo "$out"'
`)
	s.write("pages/tugline.toml", `
[task.make]
reads.from = "../build/*.txt"
reads.style = "style.css"
writes.page = "page.html"
run = 'cat ../build/*.txt "$style" >"$page"'
`)
	s.write("gauges/raw/merrowick.csv", "1\n")
	s.write("pages/style.css", "css\n")
	r := s.tugline("--output", "blocks", "all")
	require.Equal(t, 0, r.code, r.stderr)
	assert.Contains(t, r.stdout, "    ../../build/clean.txt\n", "as it is seen from where the task runs")
	assert.Equal(t, "1\ncss\n", s.read("pages/page.html"))
	s.write("gauges/raw/new.tmp", "ignored at the top")
	s.write("gauges/raw/bad-1", "ignored in the part")
	assert.Equal(t, states{"gauges/clean": "unchanged", "pages/make": "unchanged"}, s.states("-C", "pages", "make"))
	s.write("gauges/raw/new.csv", "2\n")
	assert.Equal(t, states{"gauges/clean": "run: gauges/raw/new.csv is new", "pages/make": "maybe: gauges/clean may change what it reads"}, s.planned("all"))
	assert.Contains(t, s.tugline("-C", "build", "who", "clean.txt").stdout, "made by gauges/clean  ../build/clean.txt, ../gauges/tugline.toml:5:14")

	var list struct {
		Tasks []struct {
			Name          string
			Reads, Writes []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(s.tugline("list", "--json").stdout), &list))
	assert.Equal(t, []string{"../build/*.txt", "style.css"}, list.Tasks[2].Reads)
	assert.Equal(t, []string{"page.html"}, list.Tasks[2].Writes)
}

func TestNamesThatLookLikePatterns(t *testing.T) {
	s := tell(t, `
[task.t]
args.what = { default = "x" }
reads.in = "in dir/it's \"$what\".txt"
writes.out = 'out dir/\[$what] \$1.txt'
run = 'cat "$in" >"$out"; echo "$in|$out"'
`)
	for _, what := range []string{"x", "[y]*", "größe {a,b}", `back\slash`, "-n"} {
		in, out := `in dir/it's "`+what+`".txt`, "out dir/["+what+"] $1.txt"
		s.write(in, "text of "+what)
		assert.Equal(t, result{0, in + "|" + out + "\n", ""}, s.tugline("-q", "t", "--what="+what), what)
		assert.Equal(t, "text of "+what, s.read(out))
		assert.Regexp(t, "(?m)^unchanged  t", s.tugline("t", "--what="+what).stderr, what)
		require.NoError(t, os.Remove(filepath.Join(s.dir, out)))
		assert.Regexp(t, "(?m)^restored   t", s.tugline("t", "--what="+what).stderr, what)
		assert.Equal(t, "text of "+what, s.read(out))
	}
}

func TestMistakesInWhatIsDeclared(t *testing.T) {
	s := tell(t, `
ignore = "a["
[store]
limit = "much"
limits = "1GiB"
[task.t]
reads = { in = "x", "a-b" = "y", out = "z" }
writes = { out = ["a", ""], gone = "{a" }
reads_env = "A-B"
always = "yes"
args.in = { default = "x" }
run = "x"
[task.empty]
reads = []
run = "x"
`)
	r := s.tugline("doctor")
	assert.Equal(t, 2, r.code)
	for _, want := range []string{
		`2:10: "a[" is no pattern: a bracket, a brace or a backslash has no end`,
		`4:9: "much" is no size`,
		`5:1: unknown key of the store "limits"`,
		`7:11: the path sets the variable "in" of task "t" a second time`,
		`7:21: the name "a-b" is not allowed here`,
		`8:24: "out" names no files`,
		`8:36: "{a" is no pattern`,
		`9:13: "A-B" is no name of a variable`,
		`10:10: "always" must be true or false, not a string`,
		`14:9: "reads" names no files`,
	} {
		assert.Contains(t, r.stderr, "tugline.toml:"+want)
	}
}

func TestLinksAreReadAsLinks(t *testing.T) {
	s := tell(t, "[task.t]\nreads = ['in', 'named/*']\nrun = 'true'\n[task.through]\nwrites = 'away/x'\nrun = 'echo x >away/x'\n")
	s.write("target", "1")
	s.write("elsewhere/a", "1")
	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "in"), 0o755))
	require.NoError(t, os.Symlink("../target", filepath.Join(s.dir, "in/file")))
	require.NoError(t, os.Symlink("loop", filepath.Join(s.dir, "in/loop")))
	require.NoError(t, os.Symlink("elsewhere", filepath.Join(s.dir, "named")))
	s.states("t")
	assert.Equal(t, "unchanged", s.states("t")["t"])
	s.write("target", "2")
	assert.Equal(t, "ran: in/file changed", s.states("t")["t"], "the content behind a link counts")
	s.write("elsewhere/b", "1")
	assert.Equal(t, "ran: named/b is new", s.states("t")["t"], "a link that a pattern names is followed")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "in/loop")))
	require.NoError(t, os.Symlink("other", filepath.Join(s.dir, "in/loop")))
	assert.Equal(t, "ran: in/loop changed", s.states("t")["t"], "where it leads counts")

	s.write("tugline.toml", "[task.t]\nwrites = 'out/*'\nrun = 'echo x >out/x; echo made'\n[task.through]\nwrites = 'away/x'\nrun = 'echo x >away/x'\n")
	s.states("t")
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "out")))
	require.NoError(t, os.Symlink("elsewhere", filepath.Join(s.dir, "out")))
	assert.Equal(t, "ran: unexpected output out/a, and 2 more; restoring: out is a link, so nothing is put there", s.states("t")["t"])
	s.tugline("sweep", "t")
	assert.FileExists(t, filepath.Join(s.dir, "elsewhere/a"), "what was there before is left alone")

	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(s.dir, "away")))
	r := s.tugline("through")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "away/x leads out of the project: a link stands in its way")
	assert.NoFileExists(t, filepath.Join(s.dir, "away/x"))
}

func TestWhereNothingCanBeRemembered(t *testing.T) {
	s := tell(t, "[task.t]\nreads = 'tugline.toml'\nrun = 'echo ran'\n")
	s.write(".tugline", "a file, which keeps root from making the folder, too")
	r := s.tugline("t")
	assert.Equal(t, 0, r.code)
	assert.Equal(t, "ran\n", r.stdout)
	assert.Contains(t, r.stderr, "tugline: this run is not recorded: ")
}

func TestAStoreThatCannotBeUsedIsNoFailure(t *testing.T) {
	s := tell(t, "[task.t]\nwrites = 'out'\nrun = 'echo x >out'\n")
	s.write("a file", "")
	s.env = append(s.env, "TUGLINE_STORE="+filepath.Join(s.dir, "a file"))
	r := s.tugline("t")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.stderr, "tugline: outputs are neither stored nor restored: ")
	assert.Equal(t, "unchanged", s.states("t")["t"], "what ran is remembered all the same")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "out")))
	assert.Equal(t, "ran: output out is missing", s.states("t")["t"])
	s.env = append(s.env, "TUGLINE_STORE=relative")
	assert.Contains(t, s.tugline("store", "stats").stderr, "TUGLINE_STORE must be an absolute path")
}

func TestComputedVariablesInAPlan(t *testing.T) {
	s := tell(t, "[env]\nLATE = { run = 'echo computed >>asked; echo value' }\n[task.t]\nreads = 'tugline.toml'\nrun = 'echo $LATE'\n[task.other]\nreads = 'tugline.toml'\nrun = 'true'\n")
	s.tugline("plan", "--no-compute", "t")
	s.tugline("plan", "other")
	assert.NoFileExists(t, filepath.Join(s.dir, "asked"))
	s.states("t")
	assert.Equal(t, "unchanged", s.planned("t")["t"])
	assert.Equal(t, "maybe: LATE is not computed", s.planned("--no-compute", "t")["t"])
	s.write("tugline.toml", strings.Replace(s.read("tugline.toml"), "echo value", "echo other", 1))
	assert.Equal(t, "ran: LATE is \"other\", it was \"value\", and 1 more", s.states("t")["t"])
}

func TestShowTellsOfFiles(t *testing.T) {
	s := tellChain(t)
	assert.Contains(t, s.tugline("show", "page").stdout, "Writes:\n  build/page.txt\n    no file now\n")
	s.states("page")
	r := s.tugline("show", "page")
	assert.Contains(t, r.stdout, "Reads:\n  build/clean/*.csv\n    build/clean/merrowick.csv\n    build/clean/saltreach.csv\n")
	assert.Regexp(t, `Last good run:\n  2\S+ \S+, in \S+s, run \S+\n`, r.stdout)
	assert.Contains(t, r.stdout, "out      build/page.txt")
	assert.Contains(t, s.tugline("show", "page", "--json").stdout, `"written_now": [`)
}

// What a run no longer makes is not left from an earlier one, and comes back with its source.
func TestClearWrites(t *testing.T) {
	s := tell(t, `
[task.pages]
reads = "src/*"
writes = "site/**"
clear_writes = true
run = 'cp -r src/. site/'
`)
	s.write("src/a", "1")
	s.write("src/b", "1")
	s.write("site/own", "mine")
	s.states("pages")
	require.NoError(t, os.Rename(filepath.Join(s.dir, "src/b"), filepath.Join(s.dir, "src/c")))
	s.states("pages")
	assert.NoFileExists(t, filepath.Join(s.dir, "site/b"))
	assert.FileExists(t, filepath.Join(s.dir, "site/c"))
	assert.Equal(t, "mine", s.read("site/own"), "no run made it")
	s.write("site/a", "edited by hand")
	s.write("src/a", "2")
	s.states("pages")
	assert.Equal(t, "2", s.read("site/a"))
	s.write("src/a", "1")
	require.NoError(t, os.Rename(filepath.Join(s.dir, "src/c"), filepath.Join(s.dir, "src/b")))
	assert.Contains(t, s.states("pages")["pages"], "restored")
	assert.FileExists(t, filepath.Join(s.dir, "site/b"))
	assert.NoFileExists(t, filepath.Join(s.dir, "site/c"))
}

// Some instances are chosen by several values, or by a glob; the others are left alone.
func TestPickingInstances(t *testing.T) {
	s := tell(t, `
[task.page]
each.port = { list = ["merrowick", "marsh-end", "saltreach", "odd*name"] }
each.kind = { list = ["short", "long"] }
writes = "out/$port-$kind"
run = 'echo "$port" >"out/$port-$kind"'
[task.made]
each.name = { files = "out/*", as = "name" }
reads = "out/$name"
run = 'true'
`)
	names := func(args ...string) []string {
		var plan struct{ Tasks []struct{ Name string } }
		require.NoError(t, json.Unmarshal([]byte(s.tugline(append([]string{"plan", "--json"}, args...)...).stdout), &plan))
		list := []string{}
		for _, task := range plan.Tasks {
			list = append(list, task.Name)
		}
		return list
	}
	assert.Equal(t, []string{"page --port saltreach --kind short", "page --port saltreach --kind long"}, names("page", "--port", "saltreach"))
	assert.Len(t, names("page", "--port", "m*"), 4)
	assert.Equal(t, []string{"page --port merrowick --kind long", "page --port saltreach --kind long"}, names("page", "--kind", "long", "--port", "saltreach", "--port", "mer*"))
	assert.Equal(t, []string{"page --port 'odd*name' --kind long"}, names("page", "--port", "odd*name", "--kind", "l*"), "a value is a value first")
	r := s.tugline("page", "--port", "x*")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `there is no value "x*" for --port of task "page"`)
	assert.Equal(t, 2, s.tugline("page", "--port", "saltreach", "--port", "nowhere").code)

	require.Equal(t, 0, s.tugline("page").code)
	require.Equal(t, 0, s.tugline("page", "--port", "m*", "--force").code)
	assert.FileExists(t, filepath.Join(s.dir, "out/saltreach-long"), "those that were not chosen stay")
	assert.Len(t, names("made", "--name", "*-long"), 12, "with what makes them")
}
