//go:build unix

package shell

import (
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEchoPrintsItsLineAtOnce(t *testing.T) {
	ends, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_DGRAM, 0) // every write arrives alone
	require.NoError(t, err)
	in, out := os.NewFile(uintptr(ends[0]), "in"), os.NewFile(uintptr(ends[1]), "out")
	defer in.Close()
	defer out.Close()
	script := "echo one 'two  three' \\\\n\necho\n"
	program, problems := Parse(script)
	require.Empty(t, problems)
	require.NoError(t, run(t.Context(), Command{Program: program, Script: script, Dir: t.TempDir(), Env: os.Environ(), Stdout: out, Stderr: out}))
	for _, want := range []string{"one two  three \\n\n", "\n"} {
		buf := make([]byte, 100)
		n, err := in.Read(buf)
		require.NoError(t, err)
		assert.Equal(t, want, string(buf[:n]))
	}
	script = "echo() { printf own; }; echo x"
	program, problems = Parse(script)
	require.Empty(t, problems)
	require.NoError(t, run(t.Context(), Command{Program: program, Script: script, Dir: t.TempDir(), Env: os.Environ(), Stdout: out, Stderr: out}))
	buf := make([]byte, 100)
	n, err := in.Read(buf)
	require.NoError(t, err)
	assert.Equal(t, "own", string(buf[:n]))
}
