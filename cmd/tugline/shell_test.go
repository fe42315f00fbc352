//go:build unix

package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const twoShells = `
[task.plain]
run = 'echo "plain $x" >out'
env.x = "form"
[task.loop]
run = '''
for i in 1 2; do
  echo "$i"
  [[ $i == 1 ]]
done
'''
[task.coproc]
run = "coproc cat; echo never"
[task.only]
shell = "builtin"
run = "for i in a b; do echo $i; done"
[task.never]
shell = "builtin"
run = "coproc cat"
[task.bash-only]
shell = "builtin"
run = "! ! true"
[task.neither]
shell = "builtin"
run = "if true; echo"
[task.script]
run = "#!/bin/sh\necho sh"
`

// The text of a script decides what runs it, which is told, and both shells stop at the
// statement that fails.
func TestWhichShellRunsAScript(t *testing.T) {
	if _, err := exec.LookPath("bash"); err != nil {
		t.Skip("bash is not installed")
	}
	s := tell(t, twoShells)
	assert.Contains(t, s.tugline("show", "plain").stdout, "Runs in:\n  the built-in shell\n")
	assert.Contains(t, s.tugline("show", "loop").stdout, "Runs in:\n  bash, for a loop (tugline.toml:7:1)\n")
	assert.Contains(t, s.tugline("plan", "-v", "loop").stdout, "runs in bash, for a loop (tugline.toml:7:1)\n")
	var plan struct {
		Tasks []struct {
			Shells []struct{ Name, Why, Place string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(s.tugline("plan", "--json", "loop", "only", "script").stdout), &plan))
	names := []string{}
	for _, task := range plan.Tasks {
		names = append(names, task.Shells[0].Name+" "+task.Shells[0].Why)
	}
	assert.Equal(t, []string{"bash a loop", "builtin ", "/bin/sh "}, names)

	r := s.tugline("--output", "lines", "loop")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `(?s)» for i in 1 2; do …\nloop · 1\nloop · 2\nfailed +loop +\S+  exit code 1, tugline.toml:9:3\n`, r.stdout)
	assert.Equal(t, "a\nb\n", s.tugline("-q", "only").stdout)
	r = s.tugline("never")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `task "never": the built-in shell has no coprocesses`)
	assert.Contains(t, r.stderr, `use shell = "bash" for this task`)
	assert.Contains(t, s.tugline("bash-only").stderr, `bash accepts this: use shell = "bash" for this task`)
	assert.Contains(t, s.tugline("neither").stderr, "bash does not accept it, either")
}

// Without bash, the built-in shell runs what it can, and says what it cannot before
// anything starts.
func TestWithoutBash(t *testing.T) {
	s := tell(t, twoShells)
	bin := t.TempDir()
	for _, name := range []string{"cat", "sh"} {
		path, err := exec.LookPath(name)
		require.NoError(t, err)
		require.NoError(t, os.Symlink(path, filepath.Join(bin, name)))
	}
	s.env = append(s.env, "PATH="+bin)
	r := s.tugline("-q", "--output", "lines", "loop")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "task \"loop\" failed")
	r = s.tugline("plain", "coproc")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `task "coproc": the built-in shell has no coprocesses`)
	assert.Contains(t, r.stderr, "install bash, which runs it, or write it in plain shell")
	assert.NoFileExists(t, filepath.Join(s.dir, "out"), "nothing was started")

	s.write("tugline.toml", "task.loop.run = 'for i in 1; do :; done'\n")
	r = s.tugline("doctor")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.stderr, `warning: task "loop" needs bash, which is not on the PATH`)
}

// A variable that is not set ends a command before its files are touched.
func TestAnUnsetVariableLeavesFilesAlone(t *testing.T) {
	s := tell(t, "task.a.run = 'echo \"$nowhere\" >kept'\ntask.b.run = 'if true; then echo \"$nowhere\" >kept; fi'\n")
	for _, task := range []string{"a", "b"} {
		s.write("kept", "text")
		assert.Equal(t, 1, s.tugline(task).code)
		assert.Equal(t, "text", s.read("kept"))
	}
}
