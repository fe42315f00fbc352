//go:build unix

package shell

import (
	"os"
	"os/exec"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What bash runs is told of statement by statement, and a failure is found where it
// happened.
func TestBashIsServedAsWell(t *testing.T) {
	if _, err := exec.LookPath("bash"); err != nil {
		t.Skip("bash is not installed")
	}
	tests := []struct{ name, script, out, failed string }{
		{"statements in order", "echo a; echo b\nfor i in 1 2; do echo $i; done\necho c", "«echo a»a\n«echo b»b\n«for i in 1 2; do echo $i; done»1\n2\n«echo c»c\n", ""},
		{"the second of a line", "true; echo x; false; echo y", "«true»«echo x»x\n«false»", "false"},
		{"in a function", "f() {\n  echo in\n  test -e nowhere\n}\nf\necho never", "«f»in\n", "test -e nowhere"},
		{"in a loop on one line", "for i in 1 2 3; do echo $i; [[ $i != 2 ]]; done", "«for i in 1 2 3; do echo $i; [[ $i != 2 ]]; done»1\n2\n", "[[ $i != 2 ]]"},
		{"behind a failure that does not count", "if false; then :; fi; false || true; (exit 4)", "«if false; then :; fi»«false || true»«(exit 4)»", "exit 4"},
		{"exit in a function", "f() { if true; then exit 9; fi; }; f", "«f»", "exit 9"},
		{"an unset variable", "if true; then\n  echo one\n  echo $missing\nfi", "«if true; then\n  echo one\n  echo $missing\nfi»one\n", "echo $missing"},
		{"an unset variable at once", "(( 1 )) && x=$missing", "«(( 1 )) && x=$missing»", "x=$missing"},
		{"the first stage", "{ echo a; exit 3; } | cat | cat; true", "«{ echo a; exit 3; } | cat | cat»a\n", "exit 3"},
		{"an exit in the first stage", "exit 3 | cat; for x in 1; do :; done", "«exit 3 | cat»", "exit 3"},
		{"a function as a stage", "f() { while :; do echo y; done; }; printf() { echo no; }; f | head -1", "«f | head -1»y\n", ""},
		{"the middle stage", "[[ a ]] && echo a | sh -c 'cat; exit 5' | cat", "«[[ a ]] && echo a | sh -c 'cat; exit 5' | cat»a\n", "sh -c 'cat; exit 5'"},
		{"the last stage", "for x in a; do echo a | grep b; done", "«for x in a; do echo a | grep b; done»", "grep b"},
		{"a pipe that is closed", "for x in 1; do seq 100000 | head -1; done; i=0; while [[ 1 ]]; do echo y; done | head -1; (while :; do echo z; done) | head -1", "«for x in 1; do seq 100000 | head -1; done»1\n«i=0»«while [[ 1 ]]; do echo y; done | head -1»y\n«(while :; do echo z; done) | head -1»z\n", ""},
		{"a trap of its own", "trap 'echo bye' EXIT\n(( 1 ))\nfalse\n", "«trap 'echo bye' EXIT»«(( 1 ))»«false»bye\n", "false"},
		{"a trap in a function, and cleaning up", "clean() { rm -f x; }\ntrap clean EXIT\nwork() {\n  touch x; grep -q a nowhere; }\nwork", "«trap clean EXIT»«work»grep: nowhere: No such file or directory\n", "grep -q a nowhere"},
		{"here-documents", "cat <<EOF; if true; then echo x; fi | cat\nbody\nEOF\n(( 0 ))", "«cat <<EOF»body\n«if true; then echo x; fi | cat»x\n«(( 0 ))»", "(( 0 ))"},
		{"its exit code is looked at", "for x in 1; do false || true; done; echo $?; [[ a == b ]]", "«for x in 1; do false || true; done; echo $?; [[ a == b ]]»0\n", "[[ a == b ]]"},
		{"it traces itself", "set -x\n[[ a ]]\nfalse", "«set -x»+ [[ -n a ]]\n", "set -x"},
		{"words that only look like traps and options", "DEBUG=1; for x in --verbose; do\n  echo \"ERROR: $x\"\n  test -z $x\ndone", "«DEBUG=1»«for x in --verbose; do\n  echo \"ERROR: $x\"\n  test -z $x\ndone»ERROR: --verbose\n", "test -z $x"},
		{"arguments", "for a; do echo \"<$a>\"; done", "«for a; do echo \"<$a>\"; done»<a b>\n<$(x)>\n", ""},
		{"a subshell and a substitution", "x=$(echo a; [[ 1 ]]); y=$([[ a == b ]]); echo $y", "«x=$(echo a; [[ 1 ]])»«y=$([[ a == b ]])»", "y=$([[ a == b ]])"},
		{"descriptors of its own", "exec 3>out 4>&3; echo a >&3; echo b >&4; exec 3>&- 4>&-; cat out", "«exec 3>out 4>&3»«echo a >&3»«echo b >&4»«exec 3>&- 4>&-»«cat out»a\nb\n", ""},
		{"output elsewhere", "exec >out; echo a; [[ a == b ]]", "«exec >out»«echo a»«[[ a == b ]]»", "[[ a == b ]]"},
		{"equal commands in one line", "f() { test $1 = a; }; f a; f a && f a; f b; f b", "«f a»«f a && f a»«f b»", "test $1 = a"},
		{"the second of two equal statements", "[[ a == a ]]; (exit 0); x=1; [[ $x == 2 ]]; [[ $x == 2 ]]", "«[[ a == a ]]»«(exit 0)»«x=1»«[[ $x == 2 ]]»", "[[ $x == 2 ]]"},
		{"a division by zero", "echo a; echo $((1/0)); echo b", "«echo a»a\n«echo $((1/0))»", "echo $((1/0))"},
		{"eval and a sourced file", "echo 'false' >lib\neval 'echo a'\n. ./lib\n(( 1 ))", "«echo 'false' >lib»«eval 'echo a'»a\n«. ./lib»", ". ./lib"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			args, err := Interpreter(test.script, []string{"bash"}, LookPath(os.Environ(), dir))
			require.NoError(t, err)
			out, err := told(t, Command{Args: args, Script: test.script, Dir: dir, Env: os.Environ(), Params: []string{"a b", "$(x)"}})
			assert.Equal(t, test.out, withoutMessages(out))
			if test.failed == "" {
				assert.NoError(t, err)
				return
			}
			var exit *ExitError
			require.ErrorAs(t, err, &exit)
			assert.Equal(t, test.failed, test.script[exit.Where.Offset:exit.Where.Offset+exit.Where.Length])
		})
	}
}

// told runs a command and returns what it printed, with the statements in « ».
func told(t *testing.T, cmd Command) (string, error) {
	t.Helper()
	out := ""
	cmd.Output = func(text []byte) { out += string(text) }
	cmd.Statement = func(where Stretch) { out += "«" + cmd.Script[where.Offset:where.Offset+where.Length] + "»" }
	err := run(t.Context(), cmd)
	return out, err
}

var message = regexp.MustCompile(`(?m)(bash: line \d+: |^\++ ).*\n`)

// withoutMessages returns text without the lines of bash itself.
func withoutMessages(text string) string { return message.ReplaceAllString(text, "") }
