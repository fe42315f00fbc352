package store

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/atomicfile"
	"tugline/internal/files"
	"tugline/internal/glob"
)

// place is a checkout with outputs in out/, and a store.
type place struct {
	t     *testing.T
	dir   string
	root  *os.Root
	store *Store
}

func newPlace(t *testing.T, store *Store) *place {
	t.Helper()
	p := &place{t: t, dir: t.TempDir(), store: store}
	root, err := os.OpenRoot(p.dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	p.root = root
	if store == nil {
		p.store = At(filepath.Join(t.TempDir(), "store"))
		require.NoError(t, p.store.Create())
	}
	return p
}

func (p *place) write(name, text string) {
	p.t.Helper()
	path := filepath.Join(p.dir, name)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(p.t, os.WriteFile(path, []byte(text), 0o644))
}

func (p *place) outputs() []files.Found {
	p.t.Helper()
	set, err := glob.Compile([]glob.Pattern{{Text: "out"}})
	require.NoError(p.t, err)
	found, err := files.New(p.dir).Outputs(set, 0)
	require.NoError(p.t, err)
	for i, f := range found { // without what tells a file from one put in its place
		found[i] = files.Found{Path: f.Path, Kind: f.Kind, Mode: f.Mode, Size: f.Size, Digest: f.Digest}
	}
	return found
}

func (p *place) restore(key string) error {
	p.t.Helper()
	e, err := p.store.Get(p.t.Context(), key)
	if err != nil {
		return err
	}
	_, err = p.store.Restore(context.Background(), e, p.root, Restoring{Staging: "staging", Present: p.outputs()})
	return err
}

var key, otherKey = strings.Repeat("a", 64), strings.Repeat("b", 64)

// outputs are small, large and odd ones.
func (p *place) make() []files.Found {
	p.t.Helper()
	large := make([]byte, 300<<10)
	rand.Read(large)
	p.write("out/small", "small")
	p.write("out/large", string(large))
	p.write("out/a b/größe", "odd")
	p.write("out/empty", "")
	p.write("out/run", "#!/bin/sh\n")
	require.NoError(p.t, os.Chmod(filepath.Join(p.dir, "out/run"), 0o750))
	require.NoError(p.t, os.Symlink("small", filepath.Join(p.dir, "out/link")))
	return p.outputs()
}

func TestWhatIsRestoredIsWhatWasKept(t *testing.T) {
	a := newPlace(t, nil)
	want := a.make()
	require.NoError(t, a.store.Put(context.Background(), key, a.root, want, Made{Took: 1234 * time.Millisecond, Log: []byte("printed\n")}))
	b := newPlace(t, a.store)
	spoil := map[string]func(p *place){
		"nothing there": func(p *place) {},
		"all right":     func(p *place) { require.NoError(t, p.restore(key)) },
		"edited":        func(p *place) { p.write("out/small", "other"); p.write("out/large", "x") },
		"one too many":  func(p *place) { p.write("out/more", "x"); p.write("out/a b/c/d", "x") },
		"other modes":   func(p *place) { os.Chmod(filepath.Join(p.dir, "out/small"), 0o755) },
		"another link": func(p *place) {
			os.Remove(filepath.Join(p.dir, "out/link"))
			os.Symlink("large", filepath.Join(p.dir, "out/link"))
		},
		"a file instead": func(p *place) { os.Remove(filepath.Join(p.dir, "out/link")); p.write("out/link", "x") },
	}
	for name, do := range spoil {
		t.Run(name, func(t *testing.T) {
			do(b)
			require.NoError(t, b.restore(key))
			assert.Equal(t, want, b.outputs())
			assert.NoDirExists(t, filepath.Join(b.dir, "staging"))
		})
	}
	before, err := os.Stat(filepath.Join(b.dir, "out/small"))
	require.NoError(t, err)
	require.NoError(t, b.restore(key))
	after, err := os.Stat(filepath.Join(b.dir, "out/small"))
	require.NoError(t, err)
	assert.True(t, os.SameFile(before, after), "what is right is left alone")
	e, err := a.store.Get(t.Context(), key)
	require.NoError(t, err)
	log, err := a.store.Log(t.Context(), e)
	require.NoError(t, err)
	assert.Equal(t, "printed\n", string(log))
	assert.Equal(t, 1234*time.Millisecond, e.Took)
	_, err = a.store.Get(t.Context(), otherKey)
	assert.ErrorIs(t, err, ErrNotFound)
}

// Two steps may restore into one folder that is not there yet.
// More than is handed to a writer at once, in several folders.
func TestManyFilesAreRestored(t *testing.T) {
	p := newPlace(t, nil)
	for i := range 90 {
		p.write(fmt.Sprintf("out/%d/%d", i/40, i), strings.Repeat(fmt.Sprint(i), 20<<10))
	}
	before := p.outputs()
	require.NoError(t, p.store.Put(context.Background(), key, p.root, before, Made{}))
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "out")))
	require.NoError(t, p.restore(key))
	assert.Equal(t, before, p.outputs())
}

func TestTwoRestoresIntoOneNewFolder(t *testing.T) {
	p := newPlace(t, nil)
	for name, key := range map[string]string{"out/deep/a": key, "out/deep/b": otherKey} {
		p.write(name, name)
		require.NoError(t, p.store.Put(context.Background(), key, p.root, p.outputs(), Made{}))
		require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "out")))
	}
	for range 50 {
		there := newPlace(t, p.store)
		errs := make(chan error)
		for _, key := range []string{key, otherKey} {
			go func() {
				e, err := p.store.Get(t.Context(), key)
				if err == nil {
					_, err = p.store.Restore(context.Background(), e, there.root, Restoring{Staging: "staging-" + key[:1]})
				}
				errs <- err
			}()
		}
		require.NoError(t, errors.Join(<-errs, <-errs))
		require.Len(t, there.outputs(), 2)
	}
}

// What no run made is not replaced, but moved aside.
func TestWhatIsNotKnownIsMovedAside(t *testing.T) {
	p := newPlace(t, nil)
	p.write("out/a", "one")
	p.write("out/same", "same")
	require.NoError(t, p.store.Put(context.Background(), key, p.root, p.outputs(), Made{}))
	p.write("out/a", "my edit")
	p.write("out/deep/mine", "mine")
	p.write("out/old", "made by an older run")
	e, err := p.store.Get(t.Context(), key)
	require.NoError(t, err)
	moved, err := p.store.Restore(context.Background(), e, p.root, Restoring{
		Staging: "staging", Aside: "aside", Present: p.outputs(), Known: func(f files.Found) bool { return f.Path == "out/old" },
	})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"out/a", "out/deep/mine"}, moved)
	for name, want := range map[string]string{"out/a": "one", "aside/out/a": "my edit", "aside/out/deep/mine": "mine", "out/same": "same"} {
		text, err := os.ReadFile(filepath.Join(p.dir, name))
		require.NoError(t, err)
		assert.Equal(t, want, string(text))
	}
	assert.NoFileExists(t, filepath.Join(p.dir, "out/old"))
	assert.NoFileExists(t, filepath.Join(p.dir, "aside/out/same"))
}

func TestPutRefusesWhatChanged(t *testing.T) {
	for _, name := range []string{"out/small", "out/large"} {
		p := newPlace(t, nil)
		found := p.make()
		p.write(name, strings.Repeat("y", 300<<10))
		assert.ErrorIs(t, p.store.Put(context.Background(), key, p.root, found, Made{}), ErrChanged)
		assert.False(t, p.store.Has(t.Context(), key))
	}
}

// Whatever byte of the store is spoiled: nothing wrong is restored, nothing is
// half restored, and what is damaged goes.
func TestADamagedStoreRestoresNothing(t *testing.T) {
	p := newPlace(t, nil)
	p.write("out/a", "one")
	p.write("out/b", strings.Repeat("two", 40000))
	want := p.outputs()
	damage := func(path string, at int) {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		if at < 0 {
			text = text[:len(text)/2]
		} else {
			text[at] ^= 1
		}
		require.NoError(t, os.WriteFile(path, text, 0o600))
	}
	require.NoError(t, p.store.Put(context.Background(), key, p.root, want, Made{}))
	var paths []string
	require.NoError(t, filepath.WalkDir(p.store.folder, func(path string, d fs.DirEntry, err error) error {
		if !d.IsDir() && d.Name() != "lock" {
			paths = append(paths, path)
		}
		return err
	}))
	require.Len(t, paths, 3)
	for _, path := range paths {
		require.NoError(t, p.store.Put(context.Background(), key, p.root, want, Made{}))
		info, err := os.Stat(path)
		require.NoError(t, err)
		for at := -1; at < int(info.Size()); at += 1 + int(info.Size())/15 {
			require.NoError(t, p.store.Put(context.Background(), key, p.root, want, Made{}))
			damage(path, at)
			there := newPlace(t, p.store)
			there.write("out/a", "mine")
			if err := there.restore(key); err == nil {
				continue // a byte that does not count, such as one of the time
			} else {
				require.ErrorIs(t, err, ErrNotFound, "%s, byte %d", path, at)
			}
			assert.Len(t, there.outputs(), 1)
			assert.False(t, p.store.Has(t.Context(), key), "dropped")
		}
	}
	require.NoError(t, p.store.Put(context.Background(), key, p.root, want, Made{}))
	damage(paths[1], -1)
	half, err := atomicfile.Create(filepath.Dir(filepath.Dir(paths[1])))
	require.NoError(t, err)
	require.NoError(t, half.Close(), "as a Tugline leaves it that is killed while it writes")
	well, dropped, err := p.store.Verify(context.Background())
	require.NoError(t, err)
	assert.Equal(t, 0, well)
	assert.Equal(t, [2]int{1, 1}, [2]int{dropped.Entries, dropped.Objects}, "what was half written is not damage")
	assert.NoFileExists(t, half.Name())
}

func TestRestoreStaysInside(t *testing.T) {
	p := newPlace(t, nil)
	p.write("out/a", "one")
	require.NoError(t, p.store.Put(context.Background(), key, p.root, p.outputs(), Made{}))
	outside := t.TempDir()
	for _, name := range []string{"absolute", "relative"} {
		t.Run(name, func(t *testing.T) {
			there := newPlace(t, p.store)
			to := outside
			if name == "relative" {
				var err error
				to, err = filepath.Rel(there.dir, outside)
				require.NoError(t, err)
			}
			require.NoError(t, os.Symlink(to, filepath.Join(there.dir, "out")))
			assert.Error(t, there.restore(key))
			assert.NoFileExists(t, filepath.Join(outside, "a"))
		})
	}
}

func TestTheLeastRecentlyUsedGoesFirst(t *testing.T) {
	p := newPlace(t, nil)
	var keys []string
	for i := range 6 {
		keys = append(keys, fmt.Sprintf("%064x", i))
		text := make([]byte, 100<<10)
		rand.Read(text)
		p.write("out/x", string(text))
		require.NoError(t, p.store.Put(context.Background(), keys[i], p.root, p.outputs(), Made{}))
		used := time.Now().Add(time.Duration(i-100) * time.Hour)
		require.NoError(t, os.Chtimes(p.store.entryPath(keys[i]), used, used))
	}
	_, err := p.store.Get(t.Context(), keys[0]) // used just now
	require.NoError(t, err)
	before, err := p.store.Stats()
	require.NoError(t, err)
	removed, err := p.store.Prune(context.Background(), 250<<10)
	require.NoError(t, err)
	assert.Equal(t, [2]int{4, 4}, [2]int{removed.Entries, removed.Objects})
	for i, want := range []bool{true, false, false, false, false, true} {
		assert.Equal(t, want, p.store.Has(t.Context(), keys[i]), "%d", i)
	}
	after, err := p.store.Stats()
	require.NoError(t, err)
	assert.Equal(t, before.Bytes-removed.Bytes, after.Bytes)
	assert.LessOrEqual(t, after.Bytes, int64(250<<10))
}

func TestKeyedDigestsAreOneUsersOwn(t *testing.T) {
	a, b := newPlace(t, nil), newPlace(t, nil)
	one, err := a.store.Keyed("k-1")
	require.NoError(t, err)
	again, err := a.store.Keyed("k-1")
	require.NoError(t, err)
	other, err := b.store.Keyed("k-1")
	require.NoError(t, err)
	assert.Equal(t, one, again)
	assert.NotEqual(t, one, other)
}

func (p *place) put(key string, made Made) {
	p.t.Helper()
	require.NoError(p.t, p.store.Put(context.Background(), key, p.root, p.outputs(), made))
}

func TestEqualLargeFilesAreRestored(t *testing.T) {
	p := newPlace(t, nil)
	large := strings.Repeat("a line of the almanac\n", 8<<10)
	p.write("out/one", large)
	p.write("out/two", large)
	p.write("out/small one", large[:40<<10])
	p.write("out/small two", large[40<<10:70<<10])
	p.write("out/whole pack", large[:40<<10]+large[40<<10:70<<10])
	was := p.outputs()
	p.put(key, Made{})
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "out")))
	require.NoError(t, p.restore(key))
	assert.Equal(t, was, p.outputs())
}

func TestEmptyFoldersAreRestored(t *testing.T) {
	p := newPlace(t, nil)
	for _, folder := range []string{"out/void", "out/deep/er", "out/full"} {
		require.NoError(t, os.MkdirAll(filepath.Join(p.dir, folder), 0o755))
	}
	p.write("out/full/x", "1")
	was := p.outputs()
	p.put(key, Made{})
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "out")))
	require.NoError(t, p.restore(key))
	assert.Equal(t, was, p.outputs())
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "out/more"), 0o755))
	require.NoError(t, os.Remove(filepath.Join(p.dir, "out/deep/er")))
	require.NoError(t, p.restore(key))
	assert.Equal(t, was, p.outputs(), "exactly what was kept")
}

// What a killed restore left must not be in the way of the next one.
func TestALeftoverIsNoHindrance(t *testing.T) {
	p := newPlace(t, nil)
	was := p.make()
	p.put(key, Made{})
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "out")))
	p.write("staging/out/small", "half of")
	require.NoError(t, p.restore(key))
	assert.Equal(t, was, p.outputs())
	assert.NoDirExists(t, filepath.Join(p.dir, "staging"))
}

func TestWhatStandsInTheWayIsMovedAside(t *testing.T) {
	p := newPlace(t, nil)
	p.write("out/file", "1")
	p.write("out/folder/x", "2")
	was := p.outputs()
	p.put(key, Made{})
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "out")))
	p.write("out/file/mine", "mine")
	p.write("out/folder", "mine, too")
	e, err := p.store.Get(t.Context(), key)
	require.NoError(t, err)
	how := Restoring{Staging: "staging", Present: p.outputs(), Known: func(files.Found) bool { return false }, Aside: "aside"}
	moved, err := p.store.Restore(context.Background(), e, p.root, how)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"out/file/mine", "out/folder"}, moved)
	assert.Equal(t, was, p.outputs())
	text, err := os.ReadFile(filepath.Join(p.dir, "aside/out/file/mine"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(text))
}

// Whoever can write into the store must not be able to write elsewhere.
func TestAnEntryIsHeldAgainstWhatTheTaskWrites(t *testing.T) {
	object := strings.Repeat("0", 64)
	file := func(path string) File { return File{Path: path, Mode: 0o644} }
	link := func(path, to string) File { return File{Path: path, Link: to} }
	for name, entry := range map[string][]File{
		"a hook":                   {file("out/.git/hooks/post-checkout")},
		"our own folder":           {file("out/.tugline/records/x")},
		"the project file":         {file("tugline.toml")},
		"an unclean path":          {file("out/../x")},
		"an absolute one":          {file("/tmp/x")},
		"out of the project":       {file("../x")},
		"a folder elsewhere":       {{Path: "elsewhere", Folder: true}},
		"a link out":               {link("out/l", "../../x")},
		"an absolute link":         {link("out/l", "/etc/passwd")},
		"a link that goes up late": {link("out/l", "a/../../x")},
		"a file behind a link":     {link("out/l", "d"), file("out/l/x")},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t, nil)
			e := &Entry{Key: key, Objects: []string{object}, Files: entry}
			_, err := p.store.Restore(context.Background(), e, p.root, Restoring{Staging: "staging", May: func(path string) bool { return strings.HasPrefix(path, "out") }})
			assert.ErrorIs(t, err, ErrNotFound)
			left, err := os.ReadDir(p.dir)
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
	for _, good := range []File{link("out/a/l", "../b"), link("out/l", "x"), link("out/l", "..")} {
		assert.NoError(t, (&Entry{Files: []File{good}}).allowed(nil), good.Link)
	}
	setuid := &Entry{Key: key, Objects: []string{object}, Files: []File{{Path: "out/x", Mode: 0o4755}}}
	_, ok := parse(setuid.text(), key)
	assert.False(t, ok, "only the permission bits are kept")
}

func TestWhatHoldsThePathOfTheProjectIsForThatPlaceAlone(t *testing.T) {
	path := "/home/somebody/almanac"
	filler := strings.Repeat("x", 32<<10)
	for name, test := range map[string]struct {
		text  string
		local bool
	}{
		"nothing of it":        {"home/somebody", false},
		"a small file":         {"lib=" + path + "/lib", true},
		"a large one":          {filler + filler + filler + path, true},
		"across two pieces":    {filler[:len(filler)-9] + path + filler + filler, true},
		"a large one, not all": {filler + filler + filler + path[:20], false},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t, nil)
			p.write("out/x", test.text)
			for range 2 { // the second time large objects are there already
				p.put(key, Made{Local: []string{path}, LocalKey: otherKey})
				assert.Equal(t, test.local, p.store.Has(t.Context(), otherKey))
				assert.Equal(t, !test.local, p.store.Has(t.Context(), key))
				require.NoError(t, errors.Join(p.store.Drop(key), p.store.Drop(otherKey)))
			}
		})
	}
}

func TestWaitingForTheStoreCanBeCalledOff(t *testing.T) {
	p := newPlace(t, nil)
	done, err := p.store.exclusive(context.Background())
	require.NoError(t, err)
	ctx, cancel := context.WithCancelCause(context.Background())
	interrupted := errors.New("interrupted")
	cancel(interrupted)
	assert.ErrorIs(t, p.store.Put(ctx, key, p.root, p.make(), Made{}), interrupted)
	assert.NoError(t, p.store.PruneIfDue(1, 0), "it does not wait")
	done()
	reads, err := p.store.share(context.Background())
	require.NoError(t, err)
	assert.NoError(t, p.store.PruneIfDue(1, 0), "nor for who reads")
	_, err = p.store.Prune(ctx, 1)
	assert.ErrorIs(t, err, interrupted)
	reads()
	require.NoError(t, os.WriteFile(filepath.Join(p.store.folder, "objects", ".new-1"), nil, 0o600))
	_, err = p.store.Prune(context.Background(), 1<<30)
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(p.store.folder, "objects", ".new-1"), "what a killed Tugline was writing")
}
