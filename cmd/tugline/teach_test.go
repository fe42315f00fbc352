//go:build unix

package main

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
)

// An error says what to write instead.
func TestErrorsTeach(t *testing.T) {
	s := tell(t, `
[task.greet]
args.name = {}
args.loud = { type = "flag" }
run = "true"
[task.words]
args.words = { rest = true }
run = "echo $words"
`)
	tests := []struct {
		args []string
		want string
	}{
		{[]string{"greet", "Bob"}, "there is no task \"Bob\", and the arguments of \"greet\" are options\n  such as tugline greet --name Bob\n"},
		{[]string{"greet", "--loud", "Bob Ray"}, "such as tugline greet --name 'Bob Ray'\n"},
		{[]string{"greet", "--name", "Bob", "Ray"}, `there is no task "Ray"`},
		{[]string{"words", "one"}, "there is no task \"one\", and \"words\" takes words behind --\n  such as tugline words -- one\n"},
		{[]string{"words", "--", "one"}, `the variable "words" is not set; the words behind -- are "$@"`},
		{[]string{"greet", "word"}, `task "greet" needs --name`},
	}
	for _, test := range tests {
		assert.Contains(t, s.tugline(test.args...).stderr, test.want, "%q", test.args)
	}
	for text, want := range map[string]string{
		`args = ["name"]`:          `such as args.name = {}, or args.copies = { type = "int", default = 1 }`,
		`args.x = "int"`:           `such as args.x = { type = "int" }`,
		`args.x = "hello"`:         `such as args.x = { default = "hello" }`,
		`args.x = {type = "path"}`: `did you mean "file" or "folder"? The types are text, int, number, flag, file, folder`,
	} {
		s.write("tugline.toml", "[task.a]\n"+text+"\nrun = 'true'\n")
		assert.Contains(t, s.tugline("doctor").stderr, want)
	}
}

// A failure in a script of another interpreter points at the line that this tells, or at the
// whole script.
func TestPlacesOfOtherInterpreters(t *testing.T) {
	s := tell(t, `
[task.sh]
shell = "sh"
run = '''
echo one
false
'''
[task.shsyntax]
shell = "sh"
run = '''
echo one
if true; echo
'''
[task.python]
shell = "python3"
run = '''
def f():
    raise ValueError("x")
f()
'''
[task.bash]
shell = "bash"
run = '''
echo one
if true; echo
'''
`)
	assert.Contains(t, s.tugline("sh").stderr, "tugline.toml:4:7: task \"sh\" failed\n    4 | run = '''\n      |       ^^^ exit code 1; somewhere in this script\n")
	assert.Contains(t, s.tugline("--output", "blocks", "shsyntax").stderr, "tugline.toml:12:1: task \"shsyntax\" failed")
	for name, place := range map[string]string{"python": "tugline.toml:18:5", "bash": "tugline.toml:25:1"} {
		program := name + map[string]string{"python": "3"}[name]
		if _, err := exec.LookPath(program); err != nil {
			t.Logf("%s is not installed", program)
			continue
		}
		assert.Contains(t, s.tugline("--output", "blocks", name).stderr, place+": task", name)
	}
}
