package watch

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// watched is a watcher of all .txt files below src, and of out/link, in a folder.
type watched struct {
	*Watcher
	t   *testing.T
	top string
}

func open(t *testing.T, poll time.Duration) *watched {
	t.Helper()
	top, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	w := Open(Options{Top: top, Lull: 5 * time.Millisecond, Poll: poll, Warn: func(text string) { t.Error(text) }})
	t.Cleanup(w.Close)
	return &watched{w, t, top}
}

// textFiles is the scope of the tests.
func textFiles() Scope {
	isBelow := func(p string) bool { return p == "src" || strings.HasPrefix(p, "src/") }
	return Scope{
		Roots: []string{"."},
		Match: func(p string) bool { return isBelow(p) && path.Ext(p) == ".txt" || p == "out/link" || p == "out" },
		Below: func(p string, link bool) bool {
			return p == "." || p == "out" || isBelow(p) && p != "src/ignored" && (!link || p == "src/linked")
		},
	}
}

func (w *watched) write(p, text string) {
	w.t.Helper()
	name := filepath.Join(w.top, p)
	require.NoError(w.t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(w.t, os.WriteFile(name, []byte(text), 0o644))
}

// changes returns the paths that are told until all those wanted were, each once.
func (w *watched) changes(want ...string) []string {
	w.t.Helper()
	var got []string
	late := time.After(20 * time.Second)
	for {
		select {
		case <-w.Settled():
			c := w.Take()
			got = append(got, c.Paths...) // scanning may tell of one in two sets
			slices.Sort(got)
			got = slices.Compact(got)
			if !slices.ContainsFunc(want, func(p string) bool { return !slices.Contains(got, p) }) {
				return got
			}
		case <-late:
			w.t.Fatalf("told %v, not %v", got, want)
		}
	}
}

// both runs a test with what the system tells, and with scanning.
func both(t *testing.T, test func(t *testing.T, poll time.Duration)) {
	t.Run("system", func(t *testing.T) { test(t, 0) })
	t.Run("poll", func(t *testing.T) { test(t, 10*time.Millisecond) })
}

func TestSavesOfEveryKindAreTold(t *testing.T) {
	both(t, func(t *testing.T, poll time.Duration) {
		w := open(t, poll)
		w.write("src/a.txt", "1")
		w.write("src/ignored/x.txt", "1")
		w.Watch(textFiles())
		w.write("src/ignored/x.txt", "2")
		w.write("src/other.c", "")
		w.write("src/a.txt", "2")
		assert.Equal(t, []string{"src/a.txt"}, w.changes("src/a.txt"))

		w.write("src/.a.txt.new", "3") // as editors do that save by renaming
		require.NoError(t, os.Rename(filepath.Join(w.top, "src/.a.txt.new"), filepath.Join(w.top, "src/a.txt")))
		assert.Equal(t, []string{"src/a.txt"}, w.changes("src/a.txt"))

		w.write("src/deep/er/still/b.txt", "1") // folders and file at once
		w.changes("src/deep/er/still/b.txt")
		w.write("src/deep/er/still/b.txt", "2")
		w.changes("src/deep/er/still/b.txt")

		require.NoError(t, os.Rename(filepath.Join(w.top, "src/deep"), filepath.Join(w.top, "src/moved")))
		w.changes("src/moved/er/still/b.txt")
		w.write("src/moved/er/still/b.txt", "3")
		assert.Equal(t, []string{"src/moved/er/still/b.txt"}, w.changes("src/moved/er/still/b.txt"), "under the new name alone")

		require.NoError(t, os.Rename(filepath.Join(w.top, "src/moved"), filepath.Join(w.top, "away")))
		if poll == 0 {
			w.changes("src/moved")
		} else {
			w.changes("src/moved/er/still/b.txt")
		}
		require.NoError(t, os.Rename(filepath.Join(w.top, "away"), filepath.Join(w.top, "src/moved")))
		w.changes("src/moved/er/still/b.txt")

		require.NoError(t, os.RemoveAll(filepath.Join(w.top, "src")))
		w.changes("src/a.txt", "src/moved/er/still/b.txt")
		w.write("src/a.txt", "4") // made again, with the folder
		w.changes("src/a.txt")
		w.write("src/a.txt", "5")
		w.changes("src/a.txt")
	})
}

func TestWhatIsBehindLinksIsTold(t *testing.T) {
	both(t, func(t *testing.T, poll time.Duration) {
		w := open(t, poll)
		w.write("elsewhere/real", "1")
		w.write("elsewhere/folder/c.txt", "1")
		w.write("src/a.txt", "1")
		w.write("out/other", "")
		require.NoError(t, os.Symlink("../elsewhere/real", filepath.Join(w.top, "out/middle")))
		require.NoError(t, os.Symlink("middle", filepath.Join(w.top, "out/link")))
		require.NoError(t, os.Symlink("../elsewhere/folder", filepath.Join(w.top, "src/linked")))
		require.NoError(t, os.Symlink("..", filepath.Join(w.top, "src/loop")))
		w.Watch(textFiles())
		w.write("elsewhere/real", "2")
		assert.Equal(t, []string{"out/link"}, w.changes("out/link"))
		w.write("elsewhere/folder/c.txt", "2")
		assert.Equal(t, []string{"src/linked/c.txt"}, w.changes("src/linked/c.txt"))
		require.NoError(t, os.Remove(filepath.Join(w.top, "out/middle")))
		require.NoError(t, os.Symlink("../src/a.txt", filepath.Join(w.top, "out/middle")))
		w.changes("out/link")
		w.write("src/a.txt", "2")
		w.changes("out/link", "src/a.txt")
	})
}

// What the queue of the system cannot hold is found by looking at everything.
func TestALostCountIsTold(t *testing.T) {
	w := open(t, 0)
	w.write("src/a.txt", "1")
	w.write("src/new/b.txt", "1")
	w.Watch(textFiles())
	w.mu.Lock() // nothing is taken from the queue meanwhile
	w.write("src/later/c.txt", "1")
	for i := range 20_000 {
		name := []string{"src/a.txt", "src/new/b.txt"}[i%2] // equal notices in a row are one
		require.NoError(t, os.Chmod(filepath.Join(w.top, name), 0o600|fs.FileMode(i/2%2)))
	}
	w.mu.Unlock()
	for lost := false; !lost; {
		<-w.Settled()
		lost = w.Take().Lost
	}
	w.write("src/later/c.txt", "2")
	w.changes("src/later/c.txt")
}

func TestAnotherScope(t *testing.T) {
	both(t, func(t *testing.T, poll time.Duration) {
		w := open(t, poll)
		w.write("src/a.txt", "1")
		w.write("lib/b.txt", "1")
		w.Watch(textFiles())
		assert.Equal(t, poll == 0, w.IsWatched("src"))
		assert.False(t, w.IsWatched("lib"))
		all := textFiles()
		all.Match = func(p string) bool { return path.Ext(p) == ".txt" }
		all.Below = func(p string, link bool) bool { return !link }
		w.Watch(all)
		w.write("lib/b.txt", "2")
		assert.Equal(t, []string{"lib/b.txt"}, w.changes("lib/b.txt"))
		w.write("src/a.txt", "2")
		assert.Equal(t, []string{"src/a.txt"}, w.changes("src/a.txt"))
	})
}
