package cache

import (
	"context"
	"encoding/hex"
	"errors"
	"os"
	"path"

	"github.com/zeebo/blake3"

	"tugline/internal/files"
	"tugline/internal/glob"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/store"
)

// storesOutputs reports whether the outputs of a step are kept.
func (c *Cache) storesOutputs(s *plan.Step) bool { return c.Store != nil && !s.Task.NoStore }

// keysOf returns the keys under which outputs may be kept that were made in the
// state that sum tells of: for all checkouts, and for this one alone.
func (c *Cache) keysOf(sum string) [2]string { return [2]string{sum, c.localKey(sum)} }

// localKey returns the key of outputs that hold the path of this checkout: in
// another one they would be wrong.
func (c *Cache) localKey(sum string) string {
	local := blake3.Sum256([]byte(sum + "\x00" + c.Top))
	return hex.EncodeToString(local[:])
}

func (c *Cache) inStore(ctx context.Context, sum string) bool {
	for _, key := range c.keysOf(sum) {
		if c.Store.Has(ctx, key) {
			return true
		}
	}
	return false
}

// entry returns what is kept for a state. The error wraps [store.ErrNotFound] if
// nothing is.
func (c *Cache) entry(ctx context.Context, sum string) (entry *store.Entry, err error) {
	for _, key := range c.keysOf(sum) {
		if entry, err = c.Store.Get(ctx, key); !errors.Is(err, store.ErrNotFound) {
			return entry, err
		}
	}
	return nil, err
}

// peek returns what is kept for a state, for who does not use it.
func (c *Cache) peek(ctx context.Context, sum string) (*store.Entry, bool) {
	for _, key := range c.keysOf(sum) {
		if entry, found := c.Store.Peek(ctx, key); found {
			return entry, true
		}
	}
	return nil, false
}

// canRestore reports whether what is kept can be put back: what stood beside the
// outputs when they were made, and was not made by that run, must be there. It is
// not restored, for it may be the user's.
func (c *Cache) canRestore(ctx context.Context, s *plan.Step, v *Decision, in fileView) (bool, error) {
	entry, found := c.peek(ctx, v.now.Sum)
	if !found {
		return false, nil
	}
	var beside []*store.File
	for i := range entry.Files {
		if entry.Files[i].Beside {
			beside = append(beside, &entry.Files[i])
		}
	}
	if len(beside) == 0 {
		return true, nil
	}
	present, err := matchOutputs(s.Writes, in)
	if err != nil {
		return false, err
	}
	there := make(map[string]files.Digest, len(present))
	for i := range present {
		there[present[i].Path] = present[i].Digest
	}
	for _, f := range beside {
		if digest, is := there[f.Path]; !is || digest != f.Digest && f.Link == "" {
			return false, nil
		}
	}
	return true, nil
}

// Restore puts the kept outputs of a step into their places. done is false if
// they turned out not to be there. What stands in their places and was not left
// by the last good run is somebody's work: it is moved aside, and aside tells
// where to.
func (c *Cache) Restore(ctx context.Context, s *plan.Step, v *Decision, inputs []plan.Input) (done bool, aside string, err error) {
	entry, err := c.entry(ctx, v.now.Sum)
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if err != nil {
		return false, "", err
	}
	v.Saved = entry.Took
	if err := c.Ledger.Begin(s.ID(), v.now.Sum, history.Restoring); err != nil {
		return false, "", err
	}
	root, err := os.OpenRoot(c.Top)
	if err != nil {
		return false, "", err
	}
	defer root.Close()
	written, err := glob.Compile(plan.Patterns(s.Writes))
	if err != nil {
		return false, "", err
	}
	if v.present, err = matchOutputs(s.Writes, c.Files); err != nil {
		return false, "", err
	}
	how := store.Restoring{
		Staging: path.Join(history.FolderName, history.Staging(s.ID())), Present: v.present, May: written.Match,
		Known: c.known(s, v), Aside: c.aside(),
	}
	moved, err := c.Store.Restore(ctx, entry, root, how)
	c.Files.InvalidateAll()
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if len(moved) > 0 {
		aside = how.Aside
	}
	if err != nil {
		return false, aside, err
	}
	outputs, err := matchOutputs(s.Writes, c.Files)
	if err != nil {
		return false, aside, err
	}
	if err := c.readAgain(s, v, inputs, outputs); err != nil {
		return false, aside, err
	}
	was := c.before(s, v)
	_, stale, err := c.staleOutputs(s, v, outputs, was) // a restore leaves no others
	if err != nil {
		return false, aside, err
	}
	return true, aside, c.write(s, v, result{outputs, stale, was, v.Saved})
}

// aside returns the folder into which is moved what stands in the way of outputs,
// from the top folder, with slashes.
func (c *Cache) aside() string { return path.Join(history.FolderName, "replaced", c.Run) }

// known returns which outputs of a step are what its last good run left, or
// what it reads: running it would replace that, too.
func (c *Cache) known(s *plan.Step, v *Decision) func(files.Found) bool {
	record, _ := c.Ledger.Read(s.ID()) // without one, none is known
	left := make(map[string]string, len(record.Outputs))
	for _, f := range record.Outputs {
		if !f.Beside && !f.Accepted {
			left[f.Path] = f.Mark
		}
	}
	for _, f := range v.reads {
		left[f.Path] = markOf(f)
	}
	return func(f files.Found) bool { return left[f.Path] == markOf(f) }
}
