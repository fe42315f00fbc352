//go:build unix

package shell

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// outcome is what can be told of a script from outside.
type outcome struct {
	stdout string
	ok     bool
}

// snippetFolder makes a folder for a snippet, and the environment it sees.
func snippetFolder(t *testing.T) (string, []string) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "sub"), 0o755))
	for _, name := range []string{"a.txt", "b.txt", "sub/e.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("text of "+name+"\n"), 0o644))
	}
	return dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "LC_ALL=C.UTF-8", "TMPDIR=" + os.TempDir()}
}

func inBash(t *testing.T, script string) outcome {
	t.Helper()
	dir, env := snippetFolder(t)
	cmd := exec.CommandContext(t.Context(), "bash", "--noprofile", "--norc", "-euo", "pipefail", "-c", script)
	cmd.Dir, cmd.Env = dir, env
	cmd.WaitDelay = 10 * time.Second
	out, err := cmd.Output()
	return outcome{string(out), err == nil}
}

func inBuiltin(t *testing.T, program *Program) outcome {
	t.Helper()
	dir, env := snippetFolder(t)
	out, err := os.Create(filepath.Join(t.TempDir(), "out"))
	require.NoError(t, err)
	defer out.Close()
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	require.NoError(t, err)
	defer null.Close()
	err = run(t.Context(), Command{Program: program, Dir: dir, Env: env, Stdin: null, Stdout: out, Stderr: null, Grace: time.Second})
	text, readErr := os.ReadFile(out.Name())
	require.NoError(t, readErr)
	return outcome{string(text), err == nil}
}

// served runs a script in bash as Tugline does.
func served(t *testing.T, script string) outcome {
	t.Helper()
	dir, env := snippetFolder(t)
	args, err := Interpreter(script, []string{"bash"}, LookPath(env, dir))
	require.NoError(t, err)
	r, w, err := os.Pipe()
	require.NoError(t, err)
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	require.NoError(t, err)
	defer null.Close()
	text := make(chan string)
	go func() {
		read, _ := io.ReadAll(r)
		text <- string(read)
	}()
	err = run(t.Context(), Command{Args: args, Script: script, Dir: dir, Env: env, Stdin: null, Stdout: w, Stderr: null, Grace: time.Second, Statement: func(Stretch) {}})
	w.Close()
	return outcome{<-text, err == nil}
}

// TestBuiltinDoesAsBashOrRefuses holds the promise of the built-in shell over
// many snippets: the same output and the same success as bash -euo pipefail,
// or a refusal before anything runs. A snippet is expected to be refused only
// where testdata/refused.txt says so.
func TestBuiltinDoesAsBashOrRefuses(t *testing.T) {
	text, err := os.ReadFile("testdata/snippets.txt")
	require.NoError(t, err)
	refusedText, err := os.ReadFile("testdata/refused.txt")
	require.NoError(t, err)
	refused := map[string]bool{}
	for _, name := range strings.Split(strings.TrimSpace(string(refusedText)), "\n") {
		refused[name] = true
	}
	for _, part := range bytes.Split(text, []byte("=== "))[1:] {
		name, script, _ := strings.Cut(string(part), "\n")
		t.Run("in bash/"+name, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, inBash(t, script), served(t, script), "what is added to the script changes nothing")
		})
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			program, problems := Parse(script)
			if refused[name] {
				require.NotEmpty(t, problems, "it is not refused")
				assert.Equal(t, useBash, problems[0].Hint)
				return
			}
			require.Empty(t, problems)
			assert.Equal(t, inBash(t, script), inBuiltin(t, program))
		})
	}
}
