package vcs

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFiles(t *testing.T) {
	top := t.TempDir()
	sub := filepath.Join(top, "sub dir")
	require.NoError(t, os.Mkdir(sub, 0o755))
	for _, name := range []string{"tracked", "größe\nx", "not"} {
		require.NoError(t, os.WriteFile(filepath.Join(sub, name), nil, 0o644))
	}
	found, err := Tracked(context.Background(), sub)
	require.NoError(t, err)
	assert.Empty(t, found, "there is no version control")

	for _, args := range [][]string{{"init", "-q"}, {"add", "sub dir/tracked", "sub dir/größe\nx"}} {
		out, err := exec.Command("git", append([]string{"-C", top}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	found, err = Tracked(context.Background(), sub)
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"tracked": true, "größe\nx": true}, found, "below the folder, from there")

	require.NoError(t, os.RemoveAll(filepath.Join(top, ".git")))
	require.NoError(t, os.Mkdir(filepath.Join(top, ".hg"), 0o755))
	_, err = Tracked(context.Background(), sub)
	assert.ErrorIs(t, err, ErrUnknown)
}
