package cache

import (
	"context"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/zeebo/blake3"

	"tugline/internal/depfile"
	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/history"
	"tugline/internal/plan"
)

// listedIn returns the files of globs that a depfile listed.
func listedIn(globs []plan.Glob) []string {
	var paths []string
	for _, g := range globs {
		if g.Listed {
			paths = append(paths, g.Text.Value)
		}
	}
	return paths
}

// LastListed returns what the depfile of a step listed in this run, whether that was recorded
// or not, or else after its last good run.
func (c *Cache) LastListed(s *plan.Step) []string {
	if listed, known := c.listed.Load(s.ID()); known {
		return listed.([]string)
	}
	return c.Ledger.Listed(s.ID())
}

// readsOf returns what a step reads, with what its depfile listed as far as it is known by
// now.
func (c *Cache) readsOf(s *plan.Step, v *Decision) []plan.Glob {
	if s.Depfile == "" {
		return s.Reads
	}
	return s.ReadsWith(v.listed)
}

// takeListed makes what the depfile of a step lists after a run part of what it reads. It
// returns what of that changed while the step ran; empty: nothing did, as far as can be told.
func (c *Cache) takeListed(s *plan.Step, v *Decision, e Success, outputs []files.Found) (changed string, err error) {
	if err := checkWritten(s, v, outputs); err != nil {
		return "", err
	}
	listed, err := c.readListed(s)
	if err != nil {
		return "", err
	}
	if e.Listed != nil {
		if err := e.Listed(listed); err != nil {
			return "", err
		}
	}
	before := make(map[string]bool, len(v.reads))
	for i := range v.reads {
		before[v.reads[i].Path] = true
	}
	v.listed = listed
	c.listed.Store(s.ID(), listed)
	found, err := c.match(s.ReadsWith(listed))
	if err != nil {
		return "", err
	}
	for i := range found {
		if !before[found[i].Path] && found[i].LastChange() > v.begun {
			return found[i].Path, nil
		}
	}
	v.reads = found
	v.now = fingerprint.Compute(s, e.Inputs, files.SumOf(found), c.World)
	return "", nil
}

// readListed reads the depfile of a step.
func (c *Cache) readListed(s *plan.Step) ([]string, error) {
	text := s.Task.Depfile
	content, err := os.ReadFile(s.Depfile)
	if err != nil {
		return nil, fmt.Errorf("reading the depfile: %w", err)
	}
	paths, err := depfile.Parse(string(content))
	if err != nil {
		return nil, &OutputError{text, fmt.Sprintf("cannot read its depfile %s: %v", text.Value, err)}
	}
	listed, err := s.Listed(c.Top, paths)
	return slices.DeleteFunc(listed, func(p string) bool {
		info, err := os.Stat(filepath.Join(c.Top, filepath.FromSlash(p)))
		return files.NeverMatched(p) || err == nil && info.IsDir()
	}), err
}

// NoteListed notes what the depfile of a step that failed lists, if it can be read, so that a
// watch hears of these files.
func (c *Cache) NoteListed(s *plan.Step) {
	if s.Depfile == "" {
		return
	}
	if listed, err := c.readListed(s); err == nil {
		c.listed.Store(s.ID(), listed)
	}
}

// longTick is how long the clock of the file system is waited for.
const longTick = 20 * time.Millisecond

// awaitTick notes when a step with a depfile starts. If a step before it did something, the
// clock of the file system is to go on first: what that one made, and this one lists, has
// another time then than what changes now. Else what has the time of the start is taken for
// changed. Where the clock is slow, a change in the same step of it is not told.
func (c *Cache) awaitTick(s *plan.Step, v *Decision) error {
	now := func() int64 { return files.LookAt(c.Ledger.Marker(s.ID())).Modified() }
	first := now()
	v.begun = first
	if !v.moved {
		v.begun--
		return nil
	}
	for until := time.Now().Add(longTick); now() == first && time.Now().Before(until); {
		time.Sleep(time.Millisecond)
		if err := c.Ledger.Begin(s.ID(), v.now.Sum, history.Started); err != nil {
			return err
		}
	}
	return nil
}

// checkWritten returns an [*OutputError] if a step did not write its depfile. One from before
// is good only if the step left all its outputs as they were, too.
func checkWritten(s *plan.Step, v *Decision, outputs []files.Found) error {
	text := s.Task.Depfile
	switch look := files.LookAt(s.Depfile); {
	case look.Kind() != files.File:
		return &OutputError{text, fmt.Sprintf("succeeded but did not write its depfile %s", text.Value)}
	case look != v.depfile:
		return nil
	}
	before := make(map[string]*files.Found, len(v.present))
	for i := range v.present {
		before[v.present[i].Path] = &v.present[i]
	}
	for i := range outputs {
		if was := before[outputs[i].Path]; was == nil || !was.Untouched(&outputs[i]) {
			return &OutputError{text, fmt.Sprintf("succeeded and wrote %s, but not its depfile %s", outputs[i].Path, text.Value)}
		}
	}
	return nil
}

// maxListed is how many lists of files are kept for one state, the latest ones.
const maxListed = 16

// listsKey returns the key under which is kept what the depfile of a step may list in a
// state that its declaration tells of.
func (c *Cache) listsKey(s *plan.Step, inputs []plan.Input, in fileView) (string, error) {
	declared, err := sum(s.Declared(), in)
	if err != nil {
		return "", err
	}
	base := blake3.Sum256([]byte("listed\x00" + fingerprint.Compute(s, inputs, declared, c.World).Sum))
	return hex.EncodeToString(base[:]), nil
}

// keepListed keeps what the depfile of a step listed, so that its outputs are found by it.
func (c *Cache) keepListed(ctx context.Context, s *plan.Step, v *Decision, inputs []plan.Input) error {
	key, err := c.listsKey(s, inputs, c.Files)
	if err != nil {
		return err
	}
	lists := c.Store.Lists(ctx, key)
	if len(lists) > 0 && slices.Equal(lists[0], v.listed) {
		return nil
	}
	lists = slices.DeleteFunc(lists, func(l []string) bool { return slices.Equal(l, v.listed) })
	lists = slices.Insert(lists, 0, v.listed)
	return c.Store.PutLists(ctx, key, lists[:min(len(lists), maxListed)])
}

// findListed looks in the store for outputs of a step that is to run: those that were made
// while all files that its depfile listed then were as they are now.
func (c *Cache) findListed(ctx context.Context, s *plan.Step, v *Decision, inputs []plan.Input, in fileView) error {
	if !c.storesOutputs(s) || len(s.Writes) == 0 {
		return nil
	}
	key, err := c.listsKey(s, inputs, in)
	if err != nil {
		return err
	}
	for _, listed := range c.Store.Lists(ctx, key) {
		found, err := match(s.ReadsWith(listed), in)
		if err != nil {
			return err
		}
		now := fingerprint.Compute(s, inputs, files.SumOf(found), c.World)
		if !c.inStore(ctx, now.Sum) {
			continue
		}
		other := *v
		other.now, other.reads, other.listed = now, found, listed
		can, err := c.canRestore(ctx, s, &other, in)
		if err != nil {
			return err
		}
		if can {
			other.Action = ToRestore
			*v = other
			return nil
		}
	}
	return nil
}
