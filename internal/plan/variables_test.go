package plan

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/project"
)

const computing = `
[env]
PLAIN = "plain"
NOW = { run = "date $PLAIN" }
FILE = { file = "data/$PLAIN" }
LATE = "late $NOW"
LATER = { run = "echo $LATE" }
LOOP = { run = "echo $POOL" }
POOL = "$LOOP"
[task.none]
run = "echo $PLAIN"
[task.now]
args.x = { default = "1" }
run = "echo $NOW"
[task.late]
folder = "$FILE"
run = "echo ${LATER:-x} $((NOW+1))"
[task.own]
env = { NOW = { run = "own" }, PLAIN = "other" }
run = "echo"
[task.call]
needs = ["now --x $LATE"]
[task.loop]
run = "echo $LOOP"
`

// computed plans words and returns what was computed, as "NAME(PLAIN, file)".
func computed(t *testing.T, words string) ([]string, *Plan, error) {
	t.Helper()
	req := request(words)
	var asked []string
	req.Compute = func(v *project.Var, env []string, file string) (string, error) {
		at := slices.IndexFunc(env, func(pair string) bool { return strings.HasPrefix(pair, "PLAIN=") })
		asked = append(asked, v.Name+"("+strings.TrimPrefix(env[at], "PLAIN=")+", "+file+")")
		if v.Run.Value == "fail" {
			return "", errors.New("exit code 1")
		}
		return "<" + v.Name + ">", nil
	}
	pl, err := New(load(t, computing), req)
	return asked, pl, err
}

func TestVariablesAreComputedForThoseThatReferToThem(t *testing.T) {
	tests := []struct {
		words string
		want  []string
	}{
		{"none", nil},
		{"now", []string{"NOW(plain, )"}},
		{"now none now", []string{"NOW(plain, )"}},
		{"late", []string{"FILE(plain, data/plain)", "NOW(plain, )", "LATER(plain, )"}},
		{"now own", []string{"NOW(plain, )", "NOW(other, )"}},
		{"call", []string{"NOW(plain, )"}},
	}
	for _, test := range tests {
		t.Run(test.words, func(t *testing.T) {
			asked, _, err := computed(t, test.words)
			require.NoError(t, err)
			assert.ElementsMatch(t, test.want, asked)
		})
	}
	_, pl, err := computed(t, "none now late call own")
	require.NoError(t, err)
	envOf := func(name string) string {
		i := slices.IndexFunc(pl.Steps, func(s *Step) bool { return s.Name == name })
		return strings.Join(pl.Steps[i].Environ(), "\n") + "\n"
	}
	assert.NotContains(t, envOf("none"), "NOW=")
	assert.NotContains(t, envOf("none"), "LATE=")
	assert.Contains(t, envOf("now"), "\nNOW=<NOW>\n")
	assert.Contains(t, envOf("late"), "\nLATER=<LATER>\n")
	assert.Contains(t, envOf("own"), "\nNOW=<NOW>\n")
	assert.Contains(t, envOf("now --x 'late <NOW>'"), "\nx=late <NOW>\n")
	assert.Equal(t, "/almanac/<FILE>", pl.Steps[2].Folder)
}

func TestAComputedVariableThatNeedsItself(t *testing.T) {
	_, _, err := computed(t, "loop")
	assert.ErrorContains(t, err, `the value of "LOOP" refers to itself, by way of "POOL"`)
}

func TestVariablesTellWhatTheyHide(t *testing.T) {
	p := load(t, "[env]\nA = 'file'\nB = { default = 'weak', about = 'b' }\nC = { must_be_set = true, about = 'c' }\n[task.t]\nargs.A2 = { default = 'x', about = 'a2' }\nargs.need = {}\nenv = { A = 'task $A', B = { value = 'own', about = 'own b' } }\nrun = 'x'\n")
	req := request("", "A=caller", "C=caller")
	req.Set = []string{"A=set"}
	req.Files = []project.Settings{{Name: ".env", Pairs: []string{"B=one"}}, {Name: "more", Pairs: []string{"B=two"}}}
	vars, err := Variables(p, req, p.Task("t"))
	require.NoError(t, err)
	var lines []string
	for _, v := range vars {
		line := v.Name + "=" + v.Value + " (" + v.About + ") " + v.From.Kind
		for _, o := range v.Hides {
			line += " > " + strings.TrimSpace(o.Kind+" "+o.File) + " " + o.Value
		}
		lines = append(lines, line)
	}
	assert.Equal(t, []string{
		"A=set () set > task task file > project file > caller caller",
		"A2=x (a2) argument",
		"B=own (own b) task > env file more two > env file .env one > default weak",
		"C=caller (c) caller",
		"need= () ",
	}, lines)
}
