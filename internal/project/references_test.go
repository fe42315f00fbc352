package project

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRefersInScript(t *testing.T) {
	tests := []struct {
		name, script string
		shell        Shell
		refers, not  []string
	}{
		{"expansions", `echo "$A" ${B:-$C} ${#D} ${!E} "$(cat $F)" $((G + H))`, Shell{}, []string{"A", "B", "C", "D", "E", "F", "G", "H"}, []string{"echo2"}},
		{"assignments and comments are no references", "A=1 # $B\nC=$D", Shell{}, []string{"D"}, []string{"A", "B", "C"}},
		{"single quotes of a call may name one", `awk 'BEGIN { print ENVIRON["EDITION"] }'; printenv REGION`, Shell{}, []string{"EDITION", "REGION"}, nil},
		{"here-documents", "cat <<E\n$A\nE\ncat <<'E'\n$B\nE\n", Shell{}, []string{"A"}, []string{"B"}},
		{"conditions", `[[ $A == x && -n "$B" ]] || ((C > 1))`, Shell{}, []string{"A", "B", "C"}, nil},
		{"another interpreter", "import os; print(os.environ['EDITION'])", Shell{Args: []string{"python3"}}, []string{"EDITION"}, []string{"REGION"}},
		{"an interpreter line", "#!/usr/bin/env python3\nx = EDITION", Shell{}, []string{"EDITION"}, nil},
		{"a script that cannot be parsed", "if $A", Shell{}, []string{"A"}, nil},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			got := RefersInScript(test.script, test.shell)
			for _, name := range test.refers {
				assert.Contains(t, got, name)
			}
			for _, name := range test.not {
				assert.NotContains(t, got, name)
			}
		})
	}
	assert.Equal(t, []string{"A", "B", "C"}, Text{Value: `$A/${B:-x}/${#C} \n`}.Refers())
}

func TestArgCheck(t *testing.T) {
	one, nine := 1.0, 9.5
	tests := []struct {
		name string
		arg  Arg
		good []string
		bad  map[string]string
	}{
		{"text", Arg{}, []string{"", "x", "a\nb"}, nil},
		{"int", Arg{Type: ArgInt, Min: &one, Max: &nine}, []string{"1", "9", "+3"}, map[string]string{
			"0": "must be at least 1, not 0", "10": "must be at most 9.5, not 10", "1.5": `must be a whole number, not "1.5"`, "": `must be a whole number, not ""`,
		}},
		{"number", Arg{Type: ArgNumber, Max: &nine}, []string{"-3", "9.5", "1e-3"}, map[string]string{"9.6": "must be at most 9.5, not 9.6", "x": `must be a number, not "x"`}},
		{"flag", Arg{Type: ArgFlag}, []string{"", "true", "false"}, map[string]string{"yes": `must be true, false or empty, not "yes"`}},
		{"choices", Arg{Choices: []string{"a", "b"}}, []string{"a"}, map[string]string{"c": `must be one of a, b, not "c"`}},
		{"file", Arg{Type: ArgFile}, []string{"x/y"}, map[string]string{"": "must be a path, not empty"}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			for _, value := range test.good {
				assert.NoError(t, test.arg.Check(value), value)
			}
			for value, msg := range test.bad {
				assert.EqualError(t, test.arg.Check(value), msg)
			}
		})
	}
	p, err := parse("[task.a]\nargs.tag = { pattern = 'v[0-9]+|x' }\nrun = 'x'\n")
	assert.NoError(t, err)
	tag := p.Task("a").Arg("tag")
	assert.NoError(t, tag.Check("v12"))
	assert.EqualError(t, tag.Check("v12 "), `must match v[0-9]+|x, not "v12 "`)
	assert.Equal(t, []string{"--tag"}, p.Task("a").Options())
}
