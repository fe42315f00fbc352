package files

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// afterAWhile returns the tree as the next run finds it, long after all its files
// were written.
func afterAWhile(tree *Tree) *Tree {
	for _, f := range tree.folders {
		f.named = f.self.kind == Folder
		for i := range f.entries {
			f.entries[i].reliable = f.entries[i].hashed
		}
	}
	next := New(tree.top)
	next.decode(string(tree.encode()))
	return next
}

// paths returns all that stands below a folder, and the folder itself.
func paths(t *testing.T, top string) (list []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(top, func(path string, _ os.DirEntry, err error) error {
		list = append(list, path)
		return err
	}))
	return list
}

// Sums and what is known of whole folders are kept from run to run; whatever
// happens in between, they say what reading all anew would.
func TestWhatIsKeptSaysWhatIsThere(t *testing.T) {
	patterns := [][]string{{"**", "!.tugline"}, {"a"}, {"a/*.txt"}, {"**/1.txt", "b/c"}, {"a/1.txt", "b/c/2.bin"}, {"a/**", "!a/0.txt"}}
	for seed := range uint64(60) {
		random := rand.New(rand.NewPCG(1, seed))
		one := func(list ...string) string { return list[random.IntN(len(list))] }
		tree := project(t, map[string]string{"a/0.txt": "zero", "a/1.txt": "one", "b/c/2.bin": "two"})
		length := 10
		for step := range 12 {
			for range random.IntN(3) { // some patterns are asked for, not all
				match(t, tree, patterns[random.IntN(len(patterns))]...)
			}
			if random.IntN(2) == 0 {
				tree = afterAWhile(tree)
			}
			folder := filepath.Join(tree.top, one("a", "b", "b/c", "a/new"))
			name := filepath.Join(folder, one("0.txt", "1.txt", "2.bin"))
			was := paths(t, tree.top)
			switch random.IntN(5) {
			case 0, 1:
				length++ // the clock may be coarse: no change without another size
				require.NoError(t, os.MkdirAll(folder, 0o755))
				require.NoError(t, os.WriteFile(name, []byte(strings.Repeat("x", length)), 0o644))
			case 2:
				os.Remove(name) // it may not be there
			case 3:
				os.Chmod(name, []os.FileMode{0o644, 0o755}[random.IntN(2)]) // as above
			case 4:
				require.NoError(t, os.RemoveAll(folder))
			}
			if now := paths(t, tree.top); !slices.Equal(now, was) { // and no other names without another time
				for _, path := range now {
					if info, err := os.Stat(path); err == nil && info.IsDir() {
						os.Chtimes(path, time.Time{}, time.Unix(int64(length*100+step), 0))
					}
				}
			}
			tree.InvalidateAll()
			for _, i := range random.Perm(len(patterns)) {
				list := patterns[i]
				want := match(t, New(tree.top), list...)
				require.Equal(t, want, match(t, tree, list...), fmt.Sprintf("seed %d, step %d, %v", seed, step, list))
			}
		}
	}
}

// A young file may be written again without its stamp being moved: what was
// read of it before does not count in the next run, nor does the sum of its folder.
func TestTheSumOfAYoungFolderIsMadeAnew(t *testing.T) {
	tree := project(t, map[string]string{"a/0.txt": "zero"})
	match(t, tree, "a")
	write(t, tree, "a/0.txt", "nine")
	tree.folders["a"].entries[0].stamp = stampOf(filepath.Join(tree.top, "a/0.txt")) // as if it were in the same tick
	tree.folders["a"].named = true                                                   // and the folder were old
	next := reopened(t, tree)
	require.Equal(t, match(t, New(tree.top), "a"), match(t, next, "a"))
}
