package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/project"
)

// with makes a call of a task from name and value pairs.
func with(task string, pairs ...string) project.Call {
	c := project.Call{Name: task, Text: task}
	for i := 0; i < len(pairs); i += 2 {
		c.Args = append(c.Args, project.CallArg{Name: pairs[i], Value: project.Literal(pairs[i+1])})
	}
	return c
}

const publishing = `
[env]
CHANNEL = "draft"
[task.page]
args.port = {}
args.dry-run = { type = "flag" }
args.tag = { many = true, default = "" }
args.words = { rest = true }
env = { TITLE = "Page of $port" }
run = "x"
[task.both]
args.channel = { default = "final" }
args.loud = { type = "flag" }
args.words = { rest = true }
env = { NAME = "a 'b' $channel" }
needs = [
    "page --port merrowick --dry-run=$loud",
    'page --port "$NAME" --tag one --tag=$CHANNEL -- "$@" "last $channel"',
    "page --dry-run=false --port=merrowick --tag ''",
]
`

func TestACallIsAStepOfItsOwn(t *testing.T) {
	req := request("")
	req.Calls = []project.Call{with("both", "channel", "x y"), with("page", "port", "merrowick")}
	req.Calls[0].Rest = []project.CallWord{project.Literal("$HOME"), project.Literal("")}
	pl, err := New(load(t, publishing), req)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"page --port merrowick",
		`page --port 'a '\''b'\'' x y' --tag one --tag draft -- '$HOME' '' 'last x y'`,
		`both --channel 'x y' -- '$HOME' '': page --port merrowick page --port 'a '\''b'\'' x y' --tag one --tag draft -- '$HOME' '' 'last x y'`,
	}, lines(pl), "calls with the same values are one step, whatever was written")

	merrowick, other := pl.Steps[0], pl.Steps[1]
	for _, want := range []string{"port=merrowick", "dry_run=", "tag=", "TITLE=Page of merrowick"} {
		assert.Contains(t, merrowick.Environ(), want)
	}
	for _, want := range []string{"port=a 'b' x y", "tag=one\ndraft", "TITLE=Page of a 'b' x y"} {
		assert.Contains(t, other.Environ(), want)
	}
	assert.Equal(t, []string{"$HOME", "", "last x y"}, other.Rest)
}

func TestSetIsStrongerThanTheFile(t *testing.T) {
	p := load(t, "[env]\nA = 'file'\nB = 'b of $A'\n[task.a]\nargs.C = { default = 'arg' }\nenv = { A = 'task', D = '$C' }\nrun = 'x'\n[task.b]\nrun = 'x'\n")
	req := request("a b", "A=caller")
	req.Set = []string{"A=first", "A=set $B", "C=set"}
	pl, err := New(p, req)
	require.NoError(t, err)
	for _, want := range []string{"A=set $B", "B=b of set $B", "C=arg", "D=arg"} {
		assert.Contains(t, pl.Steps[0].Environ(), want)
	}
	for _, want := range []string{"A=set $B", "B=b of set $B", "C=set"} {
		assert.Contains(t, pl.Steps[1].Environ(), want)
	}
}

func TestCallsThatCannotBeFilledIn(t *testing.T) {
	p := load(t, "[task.a]\nargs.n = { type = 'int', default = 1 }\nrun = 'x'\n[task.b]\nargs.x = {}\nneeds = ['a --n $x', 'a --n $nope']\n")
	req := request("")
	req.Calls = []project.Call{with("b", "x", "many"), with("a", "n", "0x1")}
	_, err := New(p, req)
	assert.EqualError(t, err, `--n of task "a" must be a whole number, not "0x1"`+"\n"+
		`tugline.toml:6:17: --n of task "a" must be a whole number, not "many"`+"\n"+
		`tugline.toml:6:29: "nope": unbound variable`+"\n"+
		`tugline.toml:6:29: --n of task "a" must be a whole number, not ""`)
}
