//go:build unix

package shell

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"
)

// A folder on the way of a pattern may be large, or not readable: it is listed
// only where names are to be matched.
func TestOnlyWhatIsMatchedIsListed(t *testing.T) {
	top := t.TempDir()
	for _, name := range []string{"a/b/one", "a/b/two", "a/three", "a/c/one", "file"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(top, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(top, name), nil, 0o644))
	}
	var asked []string
	cfg := &expand.Config{Env: expand.ListEnviron("PWD=" + top), ReadDir2: func(path string) ([]fs.DirEntry, error) {
		list, err := readFolder(t.Context(), path)
		rel, relErr := filepath.Rel(top, path)
		require.NoError(t, relErr)
		asked = append(asked, fmt.Sprintf("%s %d %v", filepath.ToSlash(rel), len(list), err == nil))
		return list, err
	}}
	for pattern, want := range map[string]struct {
		fields string
		asked  []string
	}{
		"a/b/*":   {"a/b/one a/b/two", []string{"a 0 true", "a/b 0 true", "a/b 2 true"}},
		"a/*/one": {"a/b/one a/c/one", []string{"a 0 true", "a 3 true", "a/b/one 0 false", "a/c/one 0 false"}},
		"file/*":  {"file/*", []string{"file 0 false"}},
		"none/*":  {"none/*", []string{"none 0 false"}},
		"f*":      {"file", []string{". 2 true"}},
	} {
		asked = nil
		fields, err := expand.Fields(cfg, &syntax.Word{Parts: []syntax.WordPart{&syntax.Lit{Value: pattern}}})
		require.NoError(t, err, pattern)
		assert.Equal(t, want.fields, strings.Join(fields, " "))
		assert.ElementsMatch(t, want.asked, asked, pattern) // a listing has no order
	}
	if os.Geteuid() != 0 { // nothing is forbidden to root
		require.NoError(t, os.Chmod(filepath.Join(top, "a"), 0o311))
		script := "cd " + top + "; echo a/b/* a/*; echo */b/one"
		out, err := output(t.Context(), command(t, script), script)
		require.NoError(t, err)
		assert.Contains(t, out, "a/b/one a/b/two a/*\n")
		assert.Contains(t, out, "»a/b/one\n")
		require.NoError(t, os.Chmod(filepath.Join(top, "a"), 0o755))
	}
}
