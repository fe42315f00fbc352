package atomicfile

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNothingIsWrittenThroughALink(t *testing.T) {
	writes := map[string]func(path string) error{
		"whole":     func(path string) error { return Write(path, []byte("ours")) },
		"overwrite": func(path string) error { return Overwrite(path, []byte("ours"), 0o644) },
	}
	for name, write := range writes {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			theirs, path := filepath.Join(dir, "theirs"), filepath.Join(dir, "ours")
			require.NoError(t, os.WriteFile(theirs, []byte("theirs"), 0o644))
			require.NoError(t, os.Symlink(theirs, path))
			require.NoError(t, write(path))
			text, err := os.ReadFile(theirs)
			require.NoError(t, err)
			assert.Equal(t, "theirs", string(text))
			text, err = os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, "ours", string(text))
			_, err = os.Readlink(path)
			assert.Error(t, err, "the link is replaced")
		})
	}
}

func TestFoldersAreNoLinks(t *testing.T) {
	dir := t.TempDir()
	made, err := Folders(dir, "a", "b")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "a", "b"), made)
	assert.DirExists(t, made)
	_, err = Folders(dir, "a", "b")
	require.NoError(t, err, "those that are there stay")
	require.NoError(t, os.Symlink(made, filepath.Join(dir, "link")))
	_, err = Folders(dir, "link")
	assert.ErrorContains(t, err, "link is not a folder")
}

func TestAFailureLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	file, err := Create(dir)
	require.NoError(t, err)
	assert.True(t, IsTemp(filepath.Base(file.Name())))
	failure := errors.New("no")
	require.ErrorIs(t, Finish(file, filepath.Join(dir, "x"), failure), failure)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAScratchFileLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TMPDIR", dir)
	file, err := NewScratch()
	require.NoError(t, err)
	_, err = file.WriteString("kept")
	require.NoError(t, err)
	text := make([]byte, 4)
	_, err = file.ReadAt(text, 0)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(text))
	require.NoError(t, file.Close())
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}
