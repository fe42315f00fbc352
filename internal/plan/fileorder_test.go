package plan

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/project"
)

// order returns the names of the steps of a plan of calls, in order.
func order(t *testing.T, text string, calls ...string) ([]string, error) {
	t.Helper()
	req := Request{OS: "linux", IsFolder: func(path string) bool { return path == "gen" }}
	for _, c := range calls {
		req.Calls = append(req.Calls, project.Call{Text: c, Name: c})
	}
	pl, err := New(load(t, text), req)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, s := range pl.Steps {
		names = append(names, s.Name)
		for _, need := range slices.Concat(s.Needs, s.After) {
			assert.Less(t, need.Index, s.Index)
		}
	}
	return names, nil
}

func TestOrderThroughFiles(t *testing.T) {
	tests := []struct {
		name, text string
		calls      []string
		want       []string
	}{
		{"the writer is taken in", "[task.page]\nreads = 'build/*.csv'\nrun = 'x'\n[task.clean]\nwrites = 'build/{a,b}.csv'\nrun = 'x'\n[task.other]\nwrites = 'build/c.svg'\nrun = 'x'\n", []string{"page"}, []string{"clean", "page"}},
		{"a folder means all below", "[task.page]\nreads = 'build'\nrun = 'x'\n[task.clean]\nwrites = 'build/deep/x.csv'\nrun = 'x'\n", []string{"page"}, []string{"clean", "page"}},
		{"through two files", "[task.c]\nreads = 'b.txt'\nrun = 'x'\n[task.b]\nreads = 'a.txt'\nwrites = 'b.txt'\nrun = 'x'\n[task.a]\nwrites = 'a.txt'\nrun = 'x'\n", []string{"c"}, []string{"a", "b", "c"}},
		{"what is taken away is not read", "[task.page]\nreads = ['**', '!build']\nrun = 'x'\n[task.clean]\nwrites = 'build/x'\nrun = 'x'\n", []string{"page"}, []string{"page"}},
		{"what is ignored is not read", "ignore = ['build/**']\n[task.page]\nreads = '**'\nrun = 'x'\n[task.clean]\nwrites = 'build/x'\nrun = 'x'\n", []string{"page"}, []string{"page"}},
		{"an unknown value may be any", "[task.page]\nreads = 'build/merrowick.csv'\nrun = 'x'\n[task.clean]\nargs.port = { default = 'saltreach' }\nwrites = 'build/$port.csv'\nrun = 'x'\n", []string{"page"}, []string{"clean", "page"}},
		{"a formatter is not taken in", "[task.lint]\nreads = 'src/**'\nrun = 'x'\n[task.format]\nreads = 'src/**'\nwrites = 'src/**'\nrun = 'x'\n", []string{"lint"}, []string{"lint"}},
		{"but comes first when it is there", "[task.all]\nneeds = ['lint', 'format']\n[task.lint]\nreads = 'src/**'\nrun = 'x'\n[task.format]\nreads = 'src/**'\nwrites = 'src/**'\nrun = 'x'\n", []string{"all"}, []string{"format", "lint", "all"}},
		{"unless the user says otherwise", "[task.lint]\nreads = 'src/**'\nrun = 'x'\n[task.format]\nreads = 'src/**'\nwrites = 'src/**'\nrun = 'x'\n", []string{"lint", "format"}, []string{"lint", "format"}},
		{"on request", "[task.page]\nreads = 'build/x'\nrun = 'x'\n[task.fetch]\non_request = true\nwrites = 'build/x'\nrun = 'x'\n", []string{"page"}, []string{"page"}},
		{"on request, and asked for", "[task.all]\nneeds = ['page', 'fetch']\n[task.page]\nreads = 'build/x'\nrun = 'x'\n[task.fetch]\non_request = true\nwrites = 'build/x'\nrun = 'x'\n", []string{"all"}, []string{"fetch", "page", "all"}},
		{"with a variable of the file", "env.OUT = 'build'\n[task.page]\nreads = '$OUT/x'\nrun = 'x'\n[task.clean]\nwrites = 'build/x'\nrun = 'x'\n", []string{"page"}, []string{"clean", "page"}},
		{"a star in a value is a star", "[task.page]\nenv.X = '*'\nreads = 'build/$X'\nrun = 'x'\n[task.clean]\nwrites = 'build/x'\nrun = 'x'\n", []string{"page"}, []string{"page"}},
		{"a file is no folder", "[task.test]\nreads = '**/*.go'\nrun = 'x'\n[task.build]\nwrites = 'bin/a'\nrun = 'x'\n", []string{"test"}, []string{"test"}},
		{"unless it is one already", "[task.test]\nreads = '**/*.go'\nrun = 'x'\n[task.build]\nwrites = 'gen'\nrun = 'x'\n", []string{"test"}, []string{"build", "test"}},
		{"or ends with a slash", "[task.test]\nreads = '**/*.go'\nrun = 'x'\n[task.build]\nwrites = 'bin/a/'\nrun = 'x'\n", []string{"test"}, []string{"build", "test"}},
		{"or what is read begins with it", "[task.test]\nreads = 'bin/a/*.go'\nrun = 'x'\n[task.build]\nwrites = 'bin/a'\nrun = 'x'\n", []string{"test"}, []string{"build", "test"}},
		{"a file that the pattern means", "[task.test]\nreads = '**/*.go'\nrun = 'x'\n[task.build]\nwrites = 'x/a.go'\nrun = 'x'\n", []string{"test"}, []string{"build", "test"}},
		{"a value with slashes", "[task.index]\nreads = 'pages/a/*.html'\nrun = 'x'\n[task.page]\nneeds = 'list'\neach.p = { lines = 'list.txt' }\nwrites = 'pages/$p.html'\nrun = 'x'\n[task.list]\nwrites = 'list.txt'\nrun = 'x'\n", []string{"index"}, []string{"list", "page", "index"}},
		{"another ending", "[task.all]\nneeds = ['css', 'js']\n[task.css]\nwrites = 'out/dev/main.css'\nrun = 'x'\n[task.js]\neach.v = { files = 'made/*', as = 'stem' }\neach.s = { lines = 'made/list' }\nwrites = 'out/$v/$s.js'\nrun = 'x'\n[task.make]\nwrites = 'made/*'\nrun = 'x'\n", []string{"all"}, []string{"css", "make", "js", "all"}},
		{"two writers with an order", "[task.a]\nwrites = 'x'\nrun = 'x'\n[task.b]\nneeds = 'a'\nwrites = 'x*'\nrun = 'x'\n", []string{"b"}, []string{"a", "b"}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			names, err := order(t, test.text, test.calls...)
			require.NoError(t, err)
			assert.Equal(t, test.want, names)
		})
	}
}

func TestUnknownValuesInPatterns(t *testing.T) {
	for pattern, want := range map[string]string{
		"out/**/x": "out/**/x", "out/**.js": "out/**/*.js", "out/a**": "out/a*", "out/a**/x": "out/a*/**/x",
		"out/a**.js": "out/{a*.js,a*/**/*.js}", "out/a**b**.js/x": "out/a*", "plain": "plain",
	} {
		assert.Equal(t, want, deepNames(pattern), pattern)
	}
}

func TestFilesThatCannotBeOrdered(t *testing.T) {
	tests := []struct{ name, text, want string }{
		{"a circle", "[task.t]\nreads = 'a*'\nwrites = 'b'\nrun = 'x'\n[task.u]\nreads = 'b'\nwrites = 'a1'\nrun = 'x'\n", "tugline.toml:7:10: tasks wait for each other in a circle: u → t → u"},
		{"a circle with a need", "[task.t]\nneeds = 'u'\nwrites = 'b'\nrun = 'x'\n[task.u]\nreads = 'b'\nrun = 'x'\n", "tugline.toml:2:9: tasks wait for each other in a circle: u → t → u"},
		{"two writers", "[task.t]\nneeds = ['u', 'v']\n[task.u]\nwrites = 'out/*.csv'\nrun = 'x'\n[task.v]\nwrites = 'out'\nrun = 'x'\n", `tugline.toml:7:10: "u" and "v" may write the same file, and neither comes first`},
		{"out of the project", "[task.t]\nwrites = '../x'\nrun = 'x'\n", `tugline.toml:2:10: "../x" lies outside the project: a task may not write there`},
		{"the project file", "[task.t]\nwrites = '*'\nrun = 'x'\n", `tugline.toml:2:10: what is written takes in the project file tugline.toml`},
		{"an unset variable", "[task.t]\nreads = '$nope'\nrun = 'x'\n", `tugline.toml:2:9: "nope": unbound variable`},
		{"an empty pattern", "env.X = ''\n[task.t]\nreads = '$X'\nrun = 'x'\n", `tugline.toml:3:9: the pattern is empty once its variables are filled in`},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			_, err := order(t, test.text, "t")
			assert.ErrorContains(t, err, test.want)
		})
	}
}

func TestNamedPathsAreVariables(t *testing.T) {
	pl, err := New(load(t, `
[task.t]
folder = "work"
args.port = { default = "mer row" }
reads.raw = "gauges/$port.csv"
reads.many = ["a", "b"]
reads.glob = "*.x"
writes.out = "work/out"
writes.odd = "work/-x"
writes.star = 'work/\[\*]$port\$x'
env.BESIDE = "$out.tmp"
run = "x"
`), Request{Calls: []project.Call{{Name: "t"}}, OS: "linux"})
	require.NoError(t, err)
	env := pl.Steps[0].Environ()
	for _, want := range []string{"raw=../gauges/mer row.csv", "out=out", "odd=./-x", "star=[*]mer row$x", "BESIDE=out.tmp"} {
		assert.Contains(t, env, want)
	}
	for _, pair := range env {
		assert.NotRegexp(t, "^(many|glob)=", pair)
	}
	assert.Equal(t, "gauges/mer row.csv", pl.Steps[0].Reads[0].Pattern)
}

func TestInputs(t *testing.T) {
	p := load(t, `
[env]
FIXED = "1"
DEFAULT = { default = "2" }
LATE = { run = "x" }
LATE_UNUSED = { run = "x" }
OUTSIDE = { must_be_set = true }
UNUSED = { must_be_set = true }
FREE = { value = "3", counts = false }
SECRET = { default = "4", secret = true }
TRACKED = { default = "5", secret = true }
[task.t]
args.port = { default = "merrowick" }
args.words = { rest = true }
env.OWN = "$FIXED!"
reads_env = ["CALLER", "NOT_SET", "TRACKED"]
reads.path = "x"
run = 'echo $LATE $OUTSIDE $given'
[task.all]
run = 'echo $LATE $OUTSIDE $given'
[task.few]
reads_env = []
run = 'echo $FIXED'
`)
	compute := func(v *project.Var, _ []string, _ string) (string, error) { return "computed " + v.Name, nil }
	pl, err := New(p, Request{
		Calls: []project.Call{{Name: "t", Rest: []project.CallWord{project.Literal("w")}}, {Name: "all"}, {Name: "few"}}, OS: "linux", Compute: compute,
		Env: []string{"CALLER=c", "OUTSIDE=o", "ELSE=e"}, Set: []string{"given=g", "unseen=u", "DEFAULT=set"},
	})
	require.NoError(t, err)
	variable := func(name, value string) Input { return Input{Kind: "variable", Name: name, Value: value} }
	assert.Equal(t, []Input{
		{Kind: "argument", Name: "port", Value: "merrowick"},
		{Kind: "word", Name: "--", Value: "w"},
		{Kind: "path", Name: "path", Value: "x"},
		variable("CALLER", "c"), variable("LATE", "computed LATE"),
		{Kind: "variable", Name: "NOT_SET", Unset: true},
		variable("OUTSIDE", "o"), variable("OWN", "1!"),
		{Kind: "variable", Name: "TRACKED", Value: "5", Secret: true},
		variable("given", "g"),
	}, pl.Steps[0].Inputs(), "reads_env: what it names, what the texts mention, what the task declares")
	assert.Equal(t, []Input{
		variable("DEFAULT", "set"), variable("FIXED", "1"), variable("LATE", "computed LATE"), variable("OUTSIDE", "o"), variable("given", "g"),
	}, pl.Steps[1].Inputs(), "without, what the project declares")
	assert.Equal(t, []Input{variable("FIXED", "1")}, pl.Steps[2].Inputs(), "an empty list: what the texts mention")
}

// What a plan says of a step names one of those from which it reads: the same one
// each time.
func TestNeedsFromFilesHaveOneOrder(t *testing.T) {
	text := "[task.index]\nreads = 'pages/**'\nrun = 'x'\n[task.page]\neach.port = { list = ['a', 'b', 'c', 'd', 'e', 'f', 'g'] }\nwrites = 'pages/$port/page'\nrun = 'x'\n"
	for range 10 {
		pl, err := New(load(t, text), Request{OS: "linux", Calls: []project.Call{{Text: "index", Name: "index"}}})
		require.NoError(t, err)
		index := pl.Steps[len(pl.Steps)-1]
		var names string
		for _, need := range index.FileNeeds {
			names += need.Step.Name[len("page --port "):]
		}
		require.Equal(t, "abcdefg", names)
	}
}
