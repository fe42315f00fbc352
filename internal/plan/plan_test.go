package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/project"
)

func load(t *testing.T, text string) *project.Project {
	t.Helper()
	p, err := project.Parse("/almanac/tugline.toml", "tugline.toml", []byte(text))
	require.NoError(t, err)
	return p
}

// request asks for the tasks named in words.
func request(words string, env ...string) Request {
	req := Request{Env: env, From: "/almanac/docs", Jobs: 4, Run: "run-1", OS: "linux", Arch: "amd64"}
	for _, w := range strings.Fields(words) {
		req.Calls = append(req.Calls, project.Call{Text: w, Name: w})
	}
	return req
}

// lines returns each step as "name: what it needs; what it only comes after".
func lines(p *Plan) []string {
	names := func(steps []*Step) string {
		var out []string
		for _, s := range steps {
			out = append(out, s.Name)
		}
		return strings.Join(out, " ")
	}
	var out []string
	for i, s := range p.Steps {
		if s.Index != i {
			panic("steps are not numbered in order")
		}
		out = append(out, strings.TrimRight(s.Name+": "+names(s.Needs)+"; "+names(s.After), "; :"))
	}
	return out
}

func TestNewOrdersTheSteps(t *testing.T) {
	p := load(t, `
[task.clean]
run = "x"
aliases = "wipe"
[task.compile]
needs = ["fetch"]
run = "x"
[task.fetch]
run = "x"
[task.link]
needs = ["compile", "fetch", "compile"]
run = "x"
[task.all]
needs = ["link", "docs"]
[task.docs]
run = "x"
`)
	tests := []struct {
		words string
		want  []string
	}{
		{"docs", []string{"docs"}},
		{"link", []string{"fetch", "compile: fetch", "link: compile fetch"}},
		{"all", []string{"fetch", "compile: fetch", "link: compile fetch", "docs", "all: link docs"}},
		{"docs docs", []string{"docs"}},
		{"clean link", []string{"clean", "fetch: ; clean", "compile: fetch", "link: compile fetch"}},
		{"wipe clean docs", []string{"clean", "docs: ; clean clean"}},
		{"compile link docs", []string{"fetch", "compile: fetch", "link: compile fetch; compile", "docs: ; link"}},
		{"link compile docs", []string{"fetch", "compile: fetch", "link: compile fetch", "docs: ; link compile"}},
	}
	for _, test := range tests {
		t.Run(test.words, func(t *testing.T) {
			got, err := New(p, request(test.words))
			require.NoError(t, err)
			assert.Equal(t, test.want, lines(got))
		})
	}
}

func TestNewNamesWhatIsNotThere(t *testing.T) {
	_, err := New(load(t, "[task.publish]\nrun = 'x'\n"), request("pubilsh"))
	var noTask *CallError
	require.ErrorAs(t, err, &noTask)
	assert.Equal(t, CallError{Name: "pubilsh", Near: []string{"publish"}}, *noTask)
	assert.EqualError(t, err, `there is no task "pubilsh"`)
}

func TestVariablesAreTakenFromTheStrongest(t *testing.T) {
	p := load(t, `
[env]
TZ = "UTC"
URL = "http://localhost:$PORT/$TZ"
PORT = "80"
PATH = "tools:$PATH"
MAYBE = "${NOT_SET:-none}"
[task.a]
run = "x"
folder = "build/$TZ"
[task.b]
run = "x"
env = { PORT = "9$PORT", TZ = "${TZ}+1" }
folder = "/abs"
[task.c]
run = "x"
env = { OTHER = "of $URL", LAST = "$OTHER!" }
`)
	pl, err := New(p, request("c a b", "TZ=caller", "PATH=/bin", "HOME=/home/x", "TUGLINE_OS=wrong"))
	require.NoError(t, err)
	a, b := pl.Steps[1], pl.Steps[2]
	for _, want := range []string{
		"TZ=UTC", "URL=http://localhost:80/UTC", "PORT=80", "PATH=tools:/bin", "MAYBE=none", "HOME=/home/x",
		"TUGLINE_TASK=a", "TUGLINE_OS=linux", "TUGLINE_ARCH=amd64", "TUGLINE_JOBS=4", "TUGLINE_RUN=run-1",
		"TUGLINE_PROJECT=/almanac", "TUGLINE_HERE=/almanac", "TUGLINE_FROM=/almanac/docs",
	} {
		assert.Contains(t, a.Environ(), want)
	}
	for _, want := range []string{"TZ=UTC+1", "URL=http://localhost:980/UTC+1", "PORT=980", "TUGLINE_TASK=b"} {
		assert.Contains(t, b.Environ(), want)
	}
	for _, want := range []string{"OTHER=of http://localhost:80/UTC", "LAST=of http://localhost:80/UTC!", "TZ=UTC", "HOME=/home/x", "TUGLINE_TASK=c"} {
		assert.Contains(t, pl.Steps[0].Environ(), want)
	}
	assert.Equal(t, "/almanac/build/UTC", a.Folder)
	assert.Equal(t, "/abs", b.Folder)
}

func TestNewReportsEveryTextThatCannotBeFilledIn(t *testing.T) {
	p := load(t, `[env]
A = "$B"
B = "$C"
C = "x$A"
D = "$NOPE"
[task.a]
run = "x"
folder = "${GONE:?say where}"
[task.b]
run = "x"
`)
	_, err := New(p, request("a b"))
	assert.EqualError(t, err, strings.Join([]string{
		`tugline.toml:2:5: the value of "A" refers to itself, by way of "B" and "C"`,
		`tugline.toml:5:5: "NOPE": unbound variable`,
		`tugline.toml:8:10: "GONE": say where`,
	}, "\n"))
}
