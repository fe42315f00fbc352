//go:build unix

package main

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The script that show prints does by hand what a task does, with no secret in it.
func TestAScriptThatDoesTheSameByHand(t *testing.T) {
	bash, err := exec.LookPath("bash")
	if err != nil {
		t.Skip("bash is not installed")
	}
	s := tell(t, `
[env]
KEY   = { secret = true, default = "k'1 23" }
URL   = "http://x/$KEY/y"
GREET = "it's \"$COUNT\"\ntwo"
COUNT = { run = "echo 5" }
[task.page]
args.who   = { default = "me" }
args.words = { rest = true }
writes = "deep/er/$who.txt"
folder = "src"
run = [
  'cd .. ; for w in "$@"; do echo "[$w]"; done',
  'echo "$who $URL $GREET in ${PWD##*/}" >"../deep/er/$who.txt"; cat "../deep/er/$who.txt"',
]
[task.sh]
shell = "sh"
run = "echo \"'a' $URL\"; false; echo never"
[task.awk]
shell = ["awk", "-f"]
run = '''
BEGIN { print ENVIRON["URL"]; print "it's" }
'''
[task.group]
needs = ["sh"]
[task.many]
each.n = { list = ["1", "2"] }
run = "echo $n"
`)
	s.write("src/x", "")
	calls := [][]string{{"page", "--who", "x y", "--", "w 1", "*", "k'1 23"}, {"sh"}, {"awk"}, {"many", "--n", "2"}}
	for _, call := range calls {
		want := s.tugline(append([]string{"-q"}, call...)...)
		shown := s.tugline(append([]string{"show", "--script"}, call...)...)
		require.Equal(t, 0, shown.code, shown.stderr)
		assert.NotContains(t, shown.stdout, "1 23")
		s.write("by-hand", shown.stdout)
		cmd := exec.Command(bash, filepath.Join(s.dir, "by-hand"))
		cmd.Env = append(s.env, "KEY=k'1 23")
		out, err := cmd.Output()
		assert.Equal(t, want.stdout, strings.ReplaceAll(string(out), "k'1 23", "•••"), "%v", call)
		assert.Equal(t, want.code != 0, err != nil, "%v", call)
	}
	cmd := exec.Command(bash, filepath.Join(s.dir, "by-hand"))
	cmd.Env = s.env
	_, err = cmd.Output()
	assert.Error(t, err, "without the secret")
	assert.Contains(t, s.tugline("sh").stderr, "the same by hand: tugline show sh --script\n")
	assert.Contains(t, s.tugline("-C", "src", "sh").stderr, "the same by hand: tugline show sh --script\n")
	assert.Contains(t, s.tugline("show", "group", "--script").stderr, `"group" runs no commands`)
	assert.Contains(t, s.tugline("show", "many", "--script").stderr, "such as tugline show many --n 1 --script")
}
