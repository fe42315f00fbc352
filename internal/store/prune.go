package store

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/gofrs/flock"
	"github.com/zeebo/blake3"

	"tugline/internal/atomicfile"
)

// Stats is what there is in a store.
type Stats struct {
	Folder  string `json:"folder"`
	Entries int    `json:"entries"`
	Objects int    `json:"objects"`
	Bytes   int64  `json:"bytes"` // of all files on the disk
}

// Stats counts what is kept.
func (s *Store) Stats() (Stats, error) {
	st := Stats{Folder: s.folder}
	for part, count := range map[string]*int{"entries": &st.Entries, "objects": &st.Objects} {
		list, err := s.list(part)
		if err != nil {
			return st, err
		}
		*count = len(list)
		for _, f := range list {
			st.Bytes += f.size
		}
	}
	return st, nil
}

// kept is one file of the store.
type kept struct {
	path string
	name string // without its ending
	size int64
	used time.Time
}

// list returns the files of entries or objects.
func (s *Store) list(part string) ([]kept, error) {
	var all []kept
	err := filepath.WalkDir(filepath.Join(s.folder, part), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		all = append(all, kept{path, d.Name(), info.Size(), info.ModTime()})
		return nil
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	return all, nil
}

// Prune drops the entries that were used least recently until at most limit
// bytes are kept, and all that no entry names. It returns what was removed.
func (s *Store) Prune(ctx context.Context, limit int64) (removed Stats, err error) {
	done, err := s.exclusive(ctx)
	if err != nil {
		return removed, err
	}
	defer done()
	return s.prune(limit)
}

// prune is [Store.Prune] for who has the store alone.
func (s *Store) prune(limit int64) (removed Stats, err error) {
	if err := s.clearTemps(); err != nil {
		return removed, err
	}
	entries, err := s.list("entries")
	if err != nil {
		return removed, err
	}
	objects, err := s.list("objects")
	if err != nil {
		return removed, err
	}
	removed.Folder = s.folder
	slices.SortFunc(entries, func(a, b kept) int { return b.used.Compare(a.used) })
	sizes := make(map[string]int64, len(objects))
	for _, o := range objects {
		sizes[o.name] = o.size
	}
	total := int64(0)
	needed := map[string]bool{}
	for _, entry := range entries {
		size, named := s.cost(entry, sizes, needed)
		if named == nil || total+size > limit {
			removed.drop(&removed.Entries, entry)
			total = max(total, limit-size+1) // what was used even less recently goes, too
			continue
		}
		total += size
		for _, o := range named {
			needed[o] = true
		}
	}
	for _, o := range objects {
		if !needed[o.name] {
			removed.drop(&removed.Objects, o)
		}
	}
	return removed, nil
}

// PruneIfDue prunes if something may have been put since, and the last time is
// longer ago than every. While others use the store it does nothing.
func (s *Store) PruneIfDue(limit int64, every time.Duration) error {
	stamp := filepath.Join(s.folder, "pruned")
	if info, err := os.Stat(stamp); err == nil && time.Since(info.ModTime()) < every {
		return nil
	}
	lock := flock.New(filepath.Join(s.folder, "lock"))
	alone, err := lock.TryLock()
	if err != nil {
		return fmt.Errorf("locking the store: %w", err)
	}
	if !alone {
		return nil
	}
	defer lock.Unlock()
	if err := os.WriteFile(stamp, nil, 0o600); err != nil {
		return fmt.Errorf("pruning the store: %w", err)
	}
	now := time.Now()
	os.Chtimes(stamp, now, now) // best effort: else it is pruned more often
	_, err = s.prune(limit)
	return err
}

// clearTemps removes what was being written when a Tugline was killed: nobody
// else writes now.
func (s *Store) clearTemps() error {
	for _, part := range []string{"entries", "objects"} {
		list, err := s.list(part)
		if err != nil {
			return err
		}
		for _, f := range list {
			if atomicfile.IsTemp(f.name) {
				os.Remove(f.path) // best effort: it is tried again next time
			}
		}
	}
	return nil
}

// cost returns what keeping an entry adds to the bytes that are kept, and the
// objects it names; nil if it cannot be read.
func (s *Store) cost(entry kept, sizes map[string]int64, needed map[string]bool) (size int64, named []string) {
	text, err := os.ReadFile(entry.path)
	if err != nil {
		return 0, nil
	}
	e, ok := parse(text, entry.name)
	if !ok {
		return 0, nil
	}
	size = entry.size
	for _, o := range e.Objects {
		if !needed[o] {
			size += sizes[o]
		}
	}
	return size, append([]string{}, e.Objects...)
}

func (st *Stats) drop(count *int, f kept) {
	if os.Remove(f.path) == nil {
		*count++
		st.Bytes += f.size
	}
}

// Verify reads all that is kept and drops what is damaged. It returns how many
// entries are well and what was dropped.
func (s *Store) Verify(ctx context.Context) (well int, dropped Stats, err error) {
	done, err := s.exclusive(ctx)
	if err != nil {
		return 0, dropped, err
	}
	defer done()
	dropped.Folder = s.folder
	if err := s.clearTemps(); err != nil {
		return 0, dropped, err
	}
	objects, err := s.list("objects")
	if err != nil {
		return 0, dropped, err
	}
	good := map[string]bool{}
	for _, o := range objects {
		if good[o.name] = s.objectIsGood(ctx, o.name); !good[o.name] {
			dropped.drop(&dropped.Objects, o)
		}
	}
	entries, err := s.list("entries")
	if err != nil {
		return 0, dropped, err
	}
	for _, entry := range entries {
		text, err := os.ReadFile(entry.path)
		if err != nil {
			return well, dropped, fmt.Errorf("reading the store: %w", err)
		}
		e, ok := parse(text, entry.name)
		if ok && !slices.ContainsFunc(e.Objects, func(o string) bool { return !good[o] }) {
			well++
			continue
		}
		dropped.drop(&dropped.Entries, entry)
	}
	return well, dropped, nil
}

// objectIsGood reads an object and holds it against its name.
func (s *Store) objectIsGood(ctx context.Context, digest string) bool {
	if len(digest) != 64 {
		return false
	}
	content, close, err := s.open(ctx, digest)
	if err != nil {
		return false
	}
	defer close()
	h := blake3.New()
	_, err = io.Copy(h, content)
	return err == nil && hex.EncodeToString(h.Sum(nil)) == digest
}
