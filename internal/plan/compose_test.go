package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/project"
)

// composed returns each step as "name(role): what must have ended; when it is
// wanted".
func composed(steps []*Step) []string {
	var out []string
	for _, s := range steps {
		var waits, wanted []string
		for _, other := range slices.Concat(s.Needs, s.After, s.AfterEnd) {
			waits = append(waits, other.Name+mark(other))
		}
		for _, t := range s.Triggers {
			owners := ""
			for _, o := range t.Owners {
				owners += " " + o.Name + mark(o)
			}
			wanted = append(wanted, fmt.Sprintf("%s%s", t.Kind, owners))
		}
		out = append(out, strings.TrimRight(s.Name+mark(s)+": "+strings.Join(waits, " ")+"; "+strings.Join(wanted, " "), "; :"))
	}
	return out
}

func mark(s *Step) string {
	return map[Role]string{Start: "(", Outcome: ")", End: "]"}[s.Role]
}

const composite = `
[task.deploy]
needs = ["build"]
calls = ["up", ["wait", "check --n 2"]]
then = ["tell"]
if_failed = ["keep"]
finally = ["down", "tidy"]
[task.build]
run = "x"
[task.up]
needs = ["image"]
run = "x"
[task.image]
run = "x"
[task.wait]
run = "x"
[task.check]
args.n = { type = "int" }
run = "x"
[task.tell]
run = "x"
[task.keep]
needs = ["login"]
run = "x"
[task.login]
run = "x"
[task.down]
needs = ["login"]
run = "x"
[task.tidy]
run = "x"
[task.later]
needs = ["deploy"]
run = "x"
[task.other]
finally = ["down"]
run = "x"
`

func TestCallsAndAfterCallsBecomeSteps(t *testing.T) {
	pl, err := New(load(t, composite), request("later"))
	require.NoError(t, err)
	assert.Equal(t, []string{
		"build",
		"deploy(: build",
		"image: ; calls deploy(",
		"up: image; calls deploy(",
		"wait: up; calls deploy(",
		"check --n 2: up; calls deploy(",
		"deploy): deploy( up wait check --n 2",
		"tell: ; then deploy)",
		"login: ; if_failed deploy) finally deploy)",
		"keep: login; if_failed deploy)",
		"down: login tell keep; finally deploy)",
		"tidy: down tell keep; finally deploy)",
		"deploy]: deploy) tell keep down tidy",
		"later: deploy]",
	}, composed(pl.Steps))
}

func TestAfterCallsAreMadeForEachOwner(t *testing.T) {
	pl, err := New(load(t, composite), request("deploy other login"))
	require.NoError(t, err)
	steps := composed(pl.Steps)
	assert.Contains(t, steps, "down: login tell keep; finally deploy)")
	assert.Contains(t, steps, "down: login; finally other")
	assert.Contains(t, steps, "login", "asked for, it is wanted in any case")
	assert.Equal(t, "finally of other", pl.Steps[len(pl.Steps)-2].CalledBy())
}

func TestListsOfCallsThatContradictEachOther(t *testing.T) {
	p := load(t, `
[task.a]
run = "x"
[task.b]
run = "x"
[task.one]
calls = ["a", "b"]
[task.two]
calls = ["b", "a"]
[task.both]
needs = ["one", "two"]
[task.twice]
args.n = {}
calls = ['echo --n "$n"', 'echo --n 1']
[task.echo]
args.n = {}
run = "x"
`)
	_, err := New(p, request("both"))
	assert.ErrorContains(t, err, "tasks wait for each other in a circle")
	pl, err := New(p, request("b one"))
	require.NoError(t, err, "what was asked for first yields")
	assert.Equal(t, []string{"one(", "a: ; calls one(", "b: a", "one): one( a b"}, composed(pl.Steps))
	req := request("twice")
	req.Calls[0].Args = []project.CallArg{{Name: "n", Value: project.Literal("1")}}
	_, err = New(p, req)
	assert.ErrorContains(t, err, `"echo --n 1" is called twice here`)
}

const loops = `
[lists]
ports = ["merrowick", "gull rock"]
[task.page]
each.port = "ports"
each.size = { list = ["s", "l", "s"] }
at_once = 1
args.draft = { type = "flag" }
needs = ['clean --port "$port"']
finally = ['tidy --port "$port"', "sweep"]
run = "x"
[task.clean]
each.port = "ports"
reads = "gauges/$port.csv"
writes = "build/$port/all.csv"
run = "x"
[task.table]
reads = "build/gull rock/*.csv"
run = "x"
[task.tidy]
args.port = {}
run = "x"
[task.sweep]
run = "x"
[task.made]
each.line = { lines = "list.txt" }
then = ["sweep"]
reads = "in/$line"
run = "x"
[task.make]
writes = "list.txt"
run = "x"
[task.none]
each.x = { files = "nothing/*" }
run = "x"
[task.needy]
needs = ["none"]
run = "x"
[task.wrong]
needs = ["clean --port tarn"]
run = "x"
`

func TestInstancesBecomeSteps(t *testing.T) {
	p := load(t, loops)
	pl, err := New(p, request("page"))
	require.NoError(t, err)
	assert.Equal(t, []string{
		"clean --port merrowick",
		"page --port merrowick --size s: clean --port merrowick",
		"page --port merrowick --size l: clean --port merrowick",
		"clean --port 'gull rock'",
		"page --port 'gull rock' --size s: clean --port 'gull rock'",
		"page --port 'gull rock' --size l: clean --port 'gull rock'",
		"page): page --port merrowick --size s page --port merrowick --size l page --port 'gull rock' --size s page --port 'gull rock' --size l",
		"tidy --port merrowick: ; finally page --port merrowick --size s page --port merrowick --size l",
		"tidy --port 'gull rock': ; finally page --port 'gull rock' --size s page --port 'gull rock' --size l",
		"sweep: tidy --port merrowick tidy --port 'gull rock'; finally page --port merrowick --size s page --port merrowick --size l page --port 'gull rock' --size s page --port 'gull rock' --size l",
		"page]: page) tidy --port merrowick tidy --port 'gull rock' sweep",
	}, composed(pl.Steps))

	pl, err = New(p, request("table"))
	require.NoError(t, err)
	assert.Equal(t, []string{"clean --port 'gull rock'", "table: clean --port 'gull rock'"}, composed(pl.Steps), "only the instance that writes it")

	pl, err = New(p, request("needy"))
	require.NoError(t, err)
	assert.Equal(t, `there is no value for "x"`, pl.Steps[0].Skip)
	assert.Equal(t, []string{"none)", "needy: none)"}, composed(pl.Steps))

	_, err = New(p, request("wrong"))
	assert.EqualError(t, err, `tugline.toml:40:10: there is no value "tarn" for --port of task "clean"`)
}

func TestValuesThatATaskMakesComeLater(t *testing.T) {
	req := request("made")
	var asked []Listed
	req.List = func(l Listed) ([]string, error) {
		asked = append(asked, l)
		return []string{"one", "two words", "one"}, nil
	}
	pl, err := New(load(t, loops), req)
	require.NoError(t, err)
	assert.Empty(t, asked)
	assert.Equal(t, []string{"make", "made): make", "made]: made)"}, composed(pl.Steps))
	added, err := pl.Expand(pl.Steps[1], nil)
	require.NoError(t, err)
	assert.Equal(t, "list.txt", asked[0].Lines)
	assert.Equal(t, []string{"made --line one", "made --line 'two words'", "sweep: ; then made --line one made --line 'two words'"}, composed(added))
	assert.Equal(t, []string{"made): make made --line one made --line 'two words'", "made]: made) sweep"}, composed(pl.Steps[1:3]))
	assert.Equal(t, "in/two words", added[1].Reads[0].Pattern)
}

func TestWhatFailedIsKnownToCommandsAlone(t *testing.T) {
	_, err := New(load(t, "[task.a]\nif_failed = ['b --n \"$TUGLINE_FAILED_TASK\"']\nrun = 'x'\n[task.b]\nargs.n = {}\nrun = 'x'\n"), request("a"))
	var found project.Diagnostics
	require.ErrorAs(t, err, &found)
	assert.Equal(t, "it is known when a task has failed, and to commands alone: refer to it there", found[0].Hint)
}

func TestLocksTakeInThoseOfWhatIsCalled(t *testing.T) {
	pl, err := New(load(t, `
[task.outer]
lock = "server"
needs = ["before"]
calls = ["inner"]
finally = ["tidy"]
[task.before]
lock = "elsewhere"
run = "x"
[task.inner]
needs = ["below"]
run = "x"
[task.below]
lock = ["disk", "server"]
run = "x"
[task.tidy]
lock = "broom"
run = "x"
`), request("outer"))
	require.NoError(t, err)
	locks := map[string][]string{}
	for _, s := range pl.Steps {
		if s.Previous == nil {
			locks[s.Name] = s.Locks
		}
	}
	assert.Equal(t, map[string][]string{
		"before": {"elsewhere"}, "outer": {"broom", "disk", "server"}, "inner": nil, "below": {"disk", "server"}, "tidy": {"broom"},
	}, locks)
}

func TestQuestionsAreFilledInAndAskedOnce(t *testing.T) {
	pl, err := New(load(t, `
[task.send]
args.to = {}
ask = "Send to $to?"
run = "x"
[task.all]
needs = ["send --to a", "send --to b", "other", "loop"]
[task.other]
needs = ["send --to a"]
ask = "Sure?"
run = "x"
[task.loop]
each.x = { lines = "made" }
ask = "And $x?"
run = "x"
[task.make]
writes = "made"
run = "x"
`), request("all"))
	require.NoError(t, err)
	questions, err := pl.Questions()
	require.NoError(t, err)
	var texts []string
	for _, q := range questions {
		texts = append(texts, q.Text)
	}
	assert.Equal(t, []string{"Send to a?", "Send to b?", "Sure?", "And $x?"}, texts)
}
