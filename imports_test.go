// Package tugline holds no code, only the test of the house's plan.
package tugline

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mayImport is the direction of dependence: what each package of ours may
// import of the others.
var mayImport = map[string][]string{
	"cmd/tugline":          {"internal/cli"},
	"internal/watch":       {"internal/files"},
	"internal/serve":       {"internal/files", "internal/watch"},
	"internal/service":     {},
	"internal/background":  {"internal/serve", "internal/service", "internal/shell", "internal/secret", "internal/atomicfile"},
	"internal/session":     {"internal/background", "internal/watch", "internal/glob", "internal/engine", "internal/cache", "internal/store", "internal/history", "internal/shell", "internal/fingerprint", "internal/files", "internal/plan", "internal/project", "internal/secret"},
	"internal/cli":         {"internal/report", "internal/atomicfile", "internal/graph", "demo", "internal/background", "internal/session", "internal/output", "internal/engine", "internal/cache", "internal/store", "internal/history", "internal/shell", "internal/vcs", "internal/fingerprint", "internal/files", "internal/plan", "internal/project", "internal/secret"},
	"internal/output":      {"internal/graph", "internal/secret", "internal/background", "internal/service", "internal/atomicfile", "internal/engine", "internal/cache", "internal/history", "internal/fingerprint", "internal/plan", "internal/project"},
	"internal/depfile":     {},
	"internal/report":      {"internal/history"},
	"internal/graph":       {"internal/plan", "internal/project"},
	"internal/cache":       {"internal/depfile", "internal/store", "internal/history", "internal/fingerprint", "internal/files", "internal/glob", "internal/plan", "internal/project"},
	"internal/engine":      {"internal/background", "internal/service", "internal/serve", "internal/watch", "internal/atomicfile", "internal/cache", "internal/history", "internal/shell", "internal/fingerprint", "internal/files", "internal/plan", "internal/project", "internal/secret", "internal/parallel"},
	"internal/shell":       {"internal/atomicfile"},
	"internal/plan":        {"internal/project", "internal/glob", "internal/secret"},
	"internal/project":     {"internal/toml", "internal/glob", "internal/parallel"},
	"internal/toml":        {},
	"internal/glob":        {},
	"internal/files":       {"internal/glob", "internal/atomicfile"},
	"internal/fingerprint": {"internal/files", "internal/plan", "internal/project"},
	"internal/history":     {"internal/fingerprint", "internal/atomicfile"},
	"internal/store":       {"internal/files", "internal/atomicfile"},
	"internal/atomicfile":  {},
	"internal/vcs":         {},
	"internal/secret":      {},
	"internal/parallel":    {},
	"demo":                 {},
	"docs/generate":        {"internal/cli"},
	"bench":                {"internal/cli", "internal/engine", "internal/cache", "internal/plan", "internal/project", "internal/shell", "internal/files", "internal/glob", "internal/store"},
}

// homes are the packages in which an outside library may be imported.
var homes = map[string][]string{
	"github.com/spf13/cobra":          {"internal/cli"},
	"github.com/spf13/pflag":          {"internal/cli"},
	"github.com/pelletier/go-toml":    {"internal/toml"},
	"github.com/agnivade/levenshtein": {"internal/project"},
	"github.com/joho/godotenv":        {"internal/project"},
	"mvdan.cc/sh/v3/interp":           {"internal/shell"},
	"mvdan.cc/sh/v3/syntax":           {"internal/shell", "internal/project"},
	"mvdan.cc/sh/v3/expand":           {"internal/shell", "internal/project"},
	"mvdan.cc/sh/v3/pattern":          {"internal/shell"},
	"golang.org/x/sys":                {"internal/shell", "internal/files", "internal/store", "internal/atomicfile", "internal/output"},
	"github.com/bmatcuk/doublestar":   {"internal/glob"},
	"github.com/zeebo/blake3":         {"internal/files", "internal/fingerprint", "internal/history", "internal/store", "internal/cache"},
	"github.com/pierrec/lz4":          {"internal/store"},
	"github.com/fsnotify/fsnotify":    {"internal/watch", "bench"},
	"github.com/boombuler/barcode":    {"internal/output"},
	"github.com/gofrs/flock":          {"internal/history", "internal/store", "internal/background"},
	"github.com/hashicorp/go-version": {"internal/project"},
	"github.com/alecthomas/units":     {"internal/project", "internal/cli"},
	"github.com/pmezard/go-difflib":   {"internal/output"},
	"golang.org/x/term":               {"internal/output"},
	"github.com/fatih/color":          {"internal/output"},
	"github.com/mattn/go-runewidth":   {"internal/output"},
	"os/exec":                         {"internal/shell", "internal/vcs", "bench"},
	"os/signal":                       {"cmd/tugline", "internal/shell", "internal/output", "bench"},
}

func TestPackagesImportOnlyWhatTheyMay(t *testing.T) {
	seen := 0
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		pkg := filepath.ToSlash(filepath.Dir(path))
		allowed, known := mayImport[pkg]
		assert.True(t, known, "%s is in no room of the house", path)
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, spec := range file.Imports {
			seen++
			name, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			if ours, ok := strings.CutPrefix(name, "tugline/"); ok {
				assert.Contains(t, allowed, ours, "%s", path)
				continue
			}
			home, library := homeOf(name)
			assert.True(t, library || !strings.Contains(strings.Split(name, "/")[0], "."), "%s: %s has no home", path, name)
			if library {
				assert.Contains(t, home, pkg, "%s imports %s", path, name)
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, seen, 50)
}

// The pages that a new maintainer reads first must name files that are there.
func TestTheDesignNamesFilesThatExist(t *testing.T) {
	var text string
	for _, page := range []string{"docs/design.md", "docs/packages.md"} {
		content, err := os.ReadFile(page)
		require.NoError(t, err)
		text += string(content)
	}
	named := 0
	for _, match := range regexp.MustCompile("`([a-z_]+/[a-z_/]+\\.go)`").FindAllStringSubmatch(text, -1) {
		path := strings.TrimPrefix(match[1], "internal/")
		if !strings.HasPrefix(path, "cmd/") {
			path = "internal/" + path
		}
		assert.FileExists(t, path)
		named++
	}
	assert.Greater(t, named, 50)
}

func homeOf(name string) (home []string, known bool) {
	for library, home := range homes {
		if name == library || strings.HasPrefix(name, library+"/") {
			return home, true
		}
	}
	return nil, false
}
