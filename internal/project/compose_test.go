package project

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// findings returns what is wrong with a text, one finding a string.
func findings(t *testing.T, text string) []string {
	t.Helper()
	_, err := Parse("/x/tugline.toml", "tugline.toml", []byte(text))
	var found Diagnostics
	require.ErrorAs(t, err, &found)
	var out []string
	for _, d := range found {
		line, column := d.Span.Position()
		text := d.Msg
		if d.Hint != "" {
			text += " (" + d.Hint + ")"
		}
		out = append(out, fmt.Sprintf("%d:%d", line, column)+" "+text)
		for _, r := range d.Related {
			line, column := r.Span.Position()
			out = append(out, "  "+fmt.Sprintf("%d:%d", line, column)+" "+r.Msg)
		}
	}
	return out
}

func TestCallsAreReadInTheirOrder(t *testing.T) {
	p, err := Parse("/x/tugline.toml", "tugline.toml", []byte(`
[task.a]
calls = ["b", ["c", 'd --n "$TZ"'], "e"]
then = "c"
if_failed = [["c", "b"]]
finally = ["e", "c"]
needs = ["e"]
[task.b]
run = "x"
[task.c]
run = "x"
[task.d]
args.n = {}
run = "x"
[task.e]
run = "x"
`))
	require.NoError(t, err)
	texts := func(kind Kind) (out [][]string) {
		for _, entry := range p.Task("a").Of(kind) {
			var names []string
			for _, c := range entry {
				names = append(names, c.Task.Name)
			}
			out = append(out, names)
		}
		return out
	}
	assert.Equal(t, [][]string{{"b"}, {"c", "d"}, {"e"}}, texts(DirectCalls))
	assert.Equal(t, [][]string{{"c"}}, texts(Then))
	assert.Equal(t, [][]string{{"c", "b"}}, texts(IfFailed))
	assert.Equal(t, [][]string{{"e"}, {"c"}}, texts(Finally))
	assert.Len(t, p.Task("a").Calls(), 10)
	assert.True(t, p.Task("a").Composite())
	assert.True(t, p.Task("a").IsGroup())
}

func TestWhatIsWrongWithComposedWork(t *testing.T) {
	tests := []struct {
		name, text string
		want       []string
	}{
		{"keys that do not go together", `
[task.a]
calls = ["b"]
run = "x"
[task.b]
run = "x"
at_once = 2
after_failure = "abort"
[task.c]
calls = ["b"]
retry = { times = 1 }
reads = "x"
[task.d]
after_failure = "never"
each.x = []
`, []string{
			`3:1 task "a" has commands, so it cannot have "calls" (let it call a task that runs the commands)`,
			`7:1 "at_once" has nothing to bound in task "b" (it goes with "each")`,
			`8:1 "after_failure" has nothing to say in task "b" (it goes with "calls" and "each")`,
			`11:1 "retry" has nothing to try in task "c" (it goes with "run")`,
			`12:1 task "c" has "calls", so it cannot have "reads" (the tasks that it calls say what they read and write)`,
			`13:7 task "d" does nothing (give it "run", "calls" or "needs")`,
			`14:17 "after_failure" must be one of drain, abort, continue, not "never"`,
		}},
		{"bad calls", `
[task.a]
calls = ["b", 3, ["c", ["b"]], "nope", "b"]
then = []
finally = "a"
[task.b]
run = "x"
if_failed = ["c --x 1"]
[task.c]
calls = ["b"]
`, []string{
			`3:15 "calls" must hold calls and lists of calls, not a whole number`,
			`3:24 "calls" must hold calls and lists of calls, not a list`,
			`3:32 task "a" calls "nope", but there is no such task`,
			`3:40 the call "b" stands twice in "calls" (the same call is made once in a run)`,
			"  3:10 it stands here already",
			`4:8 "then" holds no call`,
			`5:11 task "a" calls itself`,
			`8:14 tasks call each other in a circle: b → c → b`,
			`  8:14 "b" calls "c"`,
			`  10:10 "c" calls "b"`,
			`8:21 task "c" has no argument --x`,
		}},
		{"lists", `
[lists]
"a b" = ["x"]
two = { list = ["x"], files = "*.csv" }
none = {}
way = { lines = "x", as = "stem" }
odd = { files = "*.csv", as = "stam" }
num = 3
ports = ["$"]
[task.a]
each.port = "prots"
each.help = "ports"
each.other = "far-from-it"
env.port = "x"
run = "x"
lock = ["a b"]
`, []string{
			`3:1 the name "a b" of a list is not allowed (names have letters, digits, - and _, and do not begin with -)`,
			`4:23 "two" has values already, by "list"`,
			`5:1 the list "none" has no values (give it "list", "files", "lines" or "run")`,
			`6:22 "as" goes with "files"`,
			`7:31 "as" must be one of path, name, stem, below, not "stam" (did you mean "stem"?)`,
			`8:7 "num" must be a table, not a whole number`,
			`11:13 task "a" has an instance for each of the list "prots", but there is no such list (did you mean "ports"?)`,
			`12:6 the argument name "help" belongs to Tugline`,
			`13:14 task "a" has an instance for each of the list "far-from-it", but there is no such list ([lists] may hold far-from-it, or give the values in place: { list = ["far-from-it"] })`,
			`14:5 the variable sets the variable "port" of task "a" a second time`,
			"  11:6 it is set first here",
			`16:9 the name "a b" of a lock is not allowed (names have letters, digits, - and _, and do not begin with -)`,
		}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) { assert.Equal(t, test.want, findings(t, test.text)) })
	}
}

func TestWhatOfAPathIsAValue(t *testing.T) {
	tests := []struct{ as, want string }{
		{"", "gauges/north/tarn.old.csv"}, {"path", "gauges/north/tarn.old.csv"},
		{"name", "tarn.old.csv"}, {"stem", "tarn.old"}, {"below", "north/tarn.old"},
	}
	for _, test := range tests {
		l := List{As: test.as}
		assert.Equal(t, test.want, l.Value("gauges/north/tarn.old.csv", "gauges"), test.as)
	}
	assert.Equal(t, []string{"a b", "  c", "#d"}, Lines("a b\r\n\n  c\n \n#d", false))
	assert.Equal(t, []string{"a b"}, Lines("# x\na b\n  # y\n", true))
}
