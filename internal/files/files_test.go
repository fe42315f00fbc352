package files

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/glob"
)

// project makes a folder with files, by path and text, and a tree of it.
func project(t *testing.T, texts map[string]string) *Tree {
	t.Helper()
	top := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(top, ".tugline"), 0o755))
	tree := New(top)
	tree.Clock(filepath.Join(top, ".tugline"))
	for name, text := range texts {
		write(t, tree, name, text)
	}
	return tree
}

func write(t *testing.T, tree *Tree, name, text string) {
	t.Helper()
	path := filepath.Join(tree.top, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

func match(t *testing.T, tree *Tree, patterns ...string) []Found {
	t.Helper()
	var list []glob.Pattern
	for _, p := range patterns {
		text, not := strings.CutPrefix(p, "!")
		list = append(list, glob.Pattern{Text: text, Not: not})
	}
	set, err := glob.Compile(list)
	require.NoError(t, err)
	found, err := tree.Match(set)
	require.NoError(t, err)
	sum, err := tree.Sum(set)
	require.NoError(t, err)
	assert.Equal(t, SumOf(found), sum)
	both, bothSum, err := tree.MatchAndSum(set)
	require.NoError(t, err)
	assert.Equal(t, found, both)
	assert.Equal(t, sum, bothSum)
	return found
}

// What was read comes with what was found, as long as there is room. What is
// gone by then shifts no content to another file.
func TestContentsComeWithWhatIsRead(t *testing.T) {
	tree := project(t, map[string]string{"d/a": "one", "d/b": "three", "d/c": "", "e/f": "four", "e/g": "no room", "e/h": strings.Repeat("x", 200<<10)})
	require.NoError(t, os.Symlink("a", filepath.Join(tree.top, "d/link")))
	match(t, tree, "d/none*") // names are known from here on
	require.NoError(t, os.Remove(filepath.Join(tree.top, "d/a")))
	set, err := glob.Compile([]glob.Pattern{{Text: "d"}, {Text: "e"}})
	require.NoError(t, err)
	found, err := tree.Outputs(set, 10)
	require.NoError(t, err)
	texts := map[string]string{}
	for _, f := range found {
		if texts[f.Path] = "-"; f.Text != nil {
			texts[f.Path] = string(f.Text)
			assert.Equal(t, Sum(f.Text), f.Digest, f.Path)
		}
	}
	assert.Equal(t, map[string]string{"d/b": "three", "d/c": "", "d/link": "-", "e/f": "four", "e/g": "-", "e/h": "-"}, texts)
}

func names(found []Found) []string {
	list := []string{}
	for _, f := range found {
		list = append(list, f.Path)
	}
	return list
}

// reopened returns the tree as the next run of Tugline finds it.
func reopened(t *testing.T, tree *Tree) *Tree {
	t.Helper()
	kept := filepath.Join(tree.top, ".tugline")
	require.NoError(t, tree.Save(kept))
	next := Open(tree.top, kept)
	next.Clock(kept)
	return next
}

func TestMatch(t *testing.T) {
	tree := project(t, map[string]string{
		"gauges/merrowick.csv": "1", "gauges/old/saltreach.csv": "2", "gauges/.hidden": "3", "build/a b/größe.svg": "4", "top.txt": "5",
		".git/config": "6", "sub/.git/config": "7", "sub/x.tmp": "8", ".tugline/index": "9",
	})
	for pattern, want := range map[string][]string{
		"gauges":                      {"gauges/.hidden", "gauges/merrowick.csv", "gauges/old/saltreach.csv"},
		"gauges/*.csv":                {"gauges/merrowick.csv"},
		"**/*.csv":                    {"gauges/merrowick.csv", "gauges/old/saltreach.csv"},
		"gauges/merrowick.csv":        {"gauges/merrowick.csv"},
		"{top.txt,gauges/merrowick*}": {"top.txt", "gauges/merrowick.csv"},
		"build/a b/größe.svg":         {"build/a b/größe.svg"},
		"** !gauges !.tugline !*.*":   {"build/a b/größe.svg", "sub/x.tmp"},
		"sub/** !**/*.tmp":            {},
		"nowhere/*":                   {},
		".git/config":                 {},
		"top.txt/below":               {},
		"gauges/old/../merrowick.csv": {"gauges/merrowick.csv"},
		"../" + filepath.Base(tree.top) + "/top.txt": {"../" + filepath.Base(tree.top) + "/top.txt"},
	} {
		patterns := strings.Split(pattern, " ")
		if strings.HasPrefix(pattern, "build") {
			patterns = []string{pattern}
		}
		assert.Equal(t, want, names(match(t, tree, patterns...)), pattern)
		next := reopened(t, tree)
		assert.Equal(t, want, names(match(t, next, patterns...)), "%s, from the index", pattern)
	}
}

// Whatever is done to a file is seen, in the same run and in the next one.
func TestEveryChangeIsSeen(t *testing.T) {
	changes := map[string]func(t *testing.T, tree *Tree){
		"other text of the same length": func(t *testing.T, tree *Tree) { write(t, tree, "d/a", "two") },
		"the same times": func(t *testing.T, tree *Tree) {
			path := filepath.Join(tree.top, "d/a")
			info, err := os.Stat(path)
			require.NoError(t, err)
			write(t, tree, "d/a", "two")
			require.NoError(t, os.Chtimes(path, info.ModTime(), info.ModTime()))
		},
		"another file in its place": func(t *testing.T, tree *Tree) {
			write(t, tree, "d/new", "two")
			require.NoError(t, os.Rename(filepath.Join(tree.top, "d/new"), filepath.Join(tree.top, "d/a")))
		},
		"a new file":     func(t *testing.T, tree *Tree) { write(t, tree, "d/b", "x") },
		"a new folder":   func(t *testing.T, tree *Tree) { write(t, tree, "d/e/f/b", "x") },
		"a file is gone": func(t *testing.T, tree *Tree) { require.NoError(t, os.Remove(filepath.Join(tree.top, "d/a"))) },
		"the folder is gone": func(t *testing.T, tree *Tree) {
			require.NoError(t, os.RemoveAll(filepath.Join(tree.top, "d")))
		},
		"it may be run": func(t *testing.T, tree *Tree) {
			require.NoError(t, os.Chmod(filepath.Join(tree.top, "d/a"), 0o755))
		},
	}
	for name, change := range changes {
		for _, patterns := range [][]string{{"d"}, {"d/a", "d/b", "d/e/f/b"}, {"**/[a-e]"}} {
			t.Run(name+" "+patterns[0], func(t *testing.T) {
				tree := project(t, map[string]string{"d/a": "one"})
				before := match(t, tree, patterns...)
				next := reopened(t, tree)
				assert.Equal(t, before, match(t, next, patterns...))
				change(t, tree)
				tree.InvalidateAll()
				next.InvalidateAll()
				assert.NotEqual(t, before, match(t, tree, patterns...), "in the same run")
				assert.NotEqual(t, before, match(t, next, patterns...), "in the next run")
				assert.NotEqual(t, before, match(t, reopened(t, tree), patterns...), "in the run after it")
			})
		}
	}
}

func TestAFileIsAskedForOnceUntilForget(t *testing.T) {
	tree := project(t, map[string]string{"a": "one"})
	before := match(t, tree, "a")
	write(t, tree, "a", "two")
	assert.Equal(t, before, match(t, tree, "a"))
	tree.InvalidateAll()
	assert.NotEqual(t, before, match(t, tree, "a"))

	for _, pattern := range []string{"d", "d/*.txt"} { // all files of the folder, and some
		tree := project(t, map[string]string{"d/a.txt": "one", "d/b.bin": "two"})
		match(t, tree, "d")
		next := afterAWhile(tree)
		set, err := glob.Compile([]glob.Pattern{{Text: pattern}})
		require.NoError(t, err)
		before, err = next.Match(set)
		require.NoError(t, err)
		write(t, next, "d/a.txt", "other "+pattern)
		assert.Equal(t, before, match(t, next, pattern), "%s, of a folder that the index knows", pattern)
		next.InvalidateAll()
		assert.NotEqual(t, before, match(t, next, pattern))
	}
}

// Times are only trusted when they were old enough when the file was read.
func TestYoungFilesAreReadAgain(t *testing.T) {
	second := int64(1e9)
	now := 1000 * second
	for name, test := range map[string]struct {
		stamp stamp
		want  bool
	}{
		"old":                                 {stamp{modified: now - second - 1, changed: now - second - 1}, true},
		"in this tick":                        {stamp{modified: now - 1, changed: now - 1}, false},
		"put back, but changed now":           {stamp{modified: 1, changed: now - 1}, false},
		"from the future":                     {stamp{modified: now + second + 1, changed: now - second - 1}, false},
		"whole seconds, young":                {stamp{modified: now - 2*second, changed: now - 2*second}, false},
		"whole seconds, old":                  {stamp{modified: now - 3*second, changed: now - 3*second}, true},
		"a clock that does not tell the time": {stamp{modified: 0, changed: now + 1}, false},
	} {
		assert.Equal(t, test.want, test.stamp.isSure(now), name)
	}
	tree := project(t, map[string]string{"a": "one"})
	match(t, tree, "a")
	assert.False(t, tree.folders[""].entries[0].reliable, "it was written just now")
}

func TestADamagedIndexIsNone(t *testing.T) {
	tree := project(t, map[string]string{"a": "one", "b/c": "two"})
	want := match(t, tree, "**", "!.tugline")
	for _, f := range tree.folders {
		for i := range f.entries {
			f.entries[i].reliable = true // so that their digests are believed
		}
	}
	data := string(tree.encode())
	for at := range len(data) {
		for _, damaged := range []string{data[:at] + string(data[at]^1) + data[at+1:], data[:at]} {
			next := New(tree.top)
			next.decode(damaged)
			require.Equal(t, want, match(t, next, "**", "!.tugline"), at)
		}
	}
	next := New(tree.top)
	next.decode(data)
	assert.Len(t, next.folders, len(tree.folders))
	next.folders[""].unpack(nil)
	at, found := next.folders[""].find("a")
	assert.True(t, found && next.folders[""].entries[at].hashed)
	assert.Equal(t, want, match(t, next, "**", "!.tugline"))
}

func TestLinks(t *testing.T) {
	tree := project(t, map[string]string{"d/a": "one", "d/sub/x": "x"})
	for name, to := range map[string]string{"file": "d/a", "folder": "d/sub", "nowhere": "gone", "loop": "."} {
		require.NoError(t, os.Symlink(to, filepath.Join(tree.top, name)))
	}
	before := match(t, tree, "file", "folder", "nowhere")
	assert.Equal(t, []string{"file", "folder", "nowhere", "folder/x"}, names(before))
	assert.Equal(t, Link, before[0].Kind)
	assert.Equal(t, []string{"folder/x"}, names(match(t, tree, "folder/x")), "a link that is named is followed")
	assert.Equal(t, []string{"d/sub/x"}, names(match(t, tree, "**/x")), "others are not")
	write(t, tree, "d/a", "two")
	tree.InvalidateAll()
	after := match(t, tree, "file", "folder", "nowhere")
	assert.NotEqual(t, before[0], after[0], "the content of the file counts")
	assert.Equal(t, before[1:], after[1:])
}

// outputs returns what patterns mean as outputs, and checks that the sum does.
func outputs(t *testing.T, tree *Tree, patterns ...string) []Found {
	t.Helper()
	var list []glob.Pattern
	for _, p := range patterns {
		list = append(list, glob.Pattern{Text: p})
	}
	set, err := glob.Compile(list)
	require.NoError(t, err)
	tree.InvalidateAll()
	found, err := tree.Outputs(set, 0)
	require.NoError(t, err)
	sum, err := tree.SumOutputs(set)
	require.NoError(t, err)
	assert.Equal(t, SumOf(found), sum)
	return found
}

func TestEmptyFoldersAreOutputs(t *testing.T) {
	tree := project(t, map[string]string{"cache/a/x": "1", "other/y": "2"})
	for _, folder := range []string{"cache/empty", "cache/deep/er", "other/none", "void"} {
		require.NoError(t, os.MkdirAll(filepath.Join(tree.top, folder), 0o755))
	}
	assert.Equal(t, []string{"cache/a/x", "cache/deep/er", "cache/empty"}, names(outputs(t, tree, "cache")))
	assert.Equal(t, []string{"other/y"}, names(outputs(t, tree, "other/*.csv", "other/y")), "no pattern means the empty one")
	before := SumOf(outputs(t, tree, "void", "cache/**"))
	require.NoError(t, os.Remove(filepath.Join(tree.top, "void")))
	assert.NotEqual(t, before, SumOf(outputs(t, tree, "void", "cache/**")))
	assert.Equal(t, []string{"cache/a/x"}, names(match(t, tree, "cache")), "what is read are files")
}

func TestWhatWasPutBackLooksTouched(t *testing.T) {
	tree := project(t, map[string]string{"in": "one", "far": "one", "linked/x": "one"})
	require.NoError(t, os.Symlink("far", filepath.Join(tree.top, "link")))
	put := func(name, text string) func() {
		return func() { require.NoError(t, os.WriteFile(filepath.Join(tree.top, name), []byte(text), 0o644)) }
	}
	rename := func(from, to string) func() {
		return func() { require.NoError(t, os.Rename(filepath.Join(tree.top, from), filepath.Join(tree.top, to))) }
	}
	for name, test := range map[string]struct {
		path string
		do   []func()
		same bool
	}{
		"nothing":                  {"in", nil, true},
		"another content":          {"in", []func(){put("in", "two")}, false},
		"written and put back":     {"in", []func(){put("in", "two"), put("in", "one")}, false},
		"moved away and put back":  {"in", []func(){rename("in", "aside"), rename("aside", "in")}, false},
		"behind a link, put back":  {"link", []func(){put("far", "two"), put("far", "one")}, false},
		"another name of the file": {"in", []func(){func() { require.NoError(t, os.Link(filepath.Join(tree.top, "in"), filepath.Join(tree.top, "more"))) }}, true},
	} {
		t.Run(name, func(t *testing.T) {
			tree.InvalidateAll()
			before := match(t, tree, test.path)
			later(t, tree)
			for _, do := range test.do {
				do()
			}
			tree.InvalidateAll()
			after := match(t, tree, test.path)
			assert.Equal(t, test.same, before[0].Untouched(&after[0]))
		})
	}
}

// later returns when the clock of the file system has moved on.
func later(t *testing.T, tree *Tree) {
	t.Helper()
	clock := filepath.Join(tree.top, "moment")
	require.NoError(t, touch(clock))
	for start := stampOf(clock).changed; stampOf(clock).changed == start; {
		require.NoError(t, touch(clock))
	}
}

// A file that is cut short while it is in use must not end the program.
func TestAnIndexThatIsCutShortIsHarmless(t *testing.T) {
	tree := project(t, map[string]string{"a/x": "1", "b/y": "2"})
	match(t, tree, "**")
	next := reopened(t, tree)
	require.NoError(t, os.Truncate(filepath.Join(tree.top, ".tugline", "index"), 0))
	assert.Equal(t, []string{"a/x", "b/y"}, names(match(t, next, "**")))
}

// A machine that stopped may have written the times of a file and not its content.
func TestYoungDigestsAreNotBelievedAfterAnotherBoot(t *testing.T) {
	for name, test := range map[string]struct {
		boot string
		read bool
	}{"the same boot": {"one", false}, "another one": {"two", true}} {
		t.Run(name, func(t *testing.T) {
			tree := project(t, map[string]string{"a": "old", "b": "old"})
			kept := filepath.Join(tree.top, ".tugline")
			tree = openIn(tree.top, kept, "one")
			tree.Clock(kept)
			before := match(t, tree, "a")[0]
			folder := tree.folder("", false)
			at, _ := folder.find("a")
			folder.entries[at].reliable = true // as it is when the file was not changed just now
			folder.entries[at].digest = Digest{1}
			folder.changed()
			tree.learned()
			require.NoError(t, tree.Save(kept))
			next := openIn(tree.top, kept, test.boot)
			next.Clock(kept)
			assert.Equal(t, test.read, match(t, next, "a")[0].Digest == before.Digest)
		})
	}
}
