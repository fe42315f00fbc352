package engine

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

// keeps reports whether the outputs of a step are kept.
func (m *Memory) keeps(s *plan.Step) bool { return m.Store != nil && !s.Task.NoStore }

// keysOf returns the keys under which outputs may be kept that were made in the
// state that sum tells of: for all checkouts, and for this one alone.
func (m *Memory) keysOf(sum string) [2]string { return [2]string{sum, m.localKey(sum)} }

// localKey returns the key of outputs that hold the path of this checkout: in
// another one they would be wrong.
func (m *Memory) localKey(sum string) string {
	local := blake3.Sum256([]byte(sum + "\x00" + m.Top))
	return hex.EncodeToString(local[:])
}

func (m *Memory) isKept(sum string) bool {
	for _, key := range m.keysOf(sum) {
		if m.Store.Has(key) {
			return true
		}
	}
	return false
}

// kept returns what is kept for a state. The error wraps [store.ErrNotFound] if
// nothing is.
func (m *Memory) kept(sum string) (entry *store.Entry, err error) {
	for _, key := range m.keysOf(sum) {
		if entry, err = m.Store.Get(key); !errors.Is(err, store.ErrNotFound) {
			return entry, err
		}
	}
	return nil, err
}

// peek returns what is kept for a state, for who does not use it.
func (m *Memory) peek(sum string) (*store.Entry, bool) {
	for _, key := range m.keysOf(sum) {
		if entry, found := m.Store.Peek(key); found {
			return entry, true
		}
	}
	return nil, false
}

// canRestore reports whether what is kept can be put back: what stood beside the
// outputs when they were made, and was not made by that run, must be there. It is
// not restored, for it may be the user's.
func (m *Memory) canRestore(s *plan.Step, v *Verdict, in view) (bool, error) {
	entry, found := m.peek(v.now.Sum)
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

// restore puts the kept outputs of a step into their places. done is false if
// they turned out not to be there. What stands in their places and was not left
// by the last good run is somebody's work: it is moved aside, and aside tells
// where to.
func (m *Memory) restore(ctx context.Context, s *plan.Step, v *Verdict, inputs []plan.Input) (done bool, aside string, err error) {
	entry, err := m.kept(v.now.Sum)
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if err != nil {
		return false, "", err
	}
	v.last = entry.Took
	if err := m.Ledger.Begin(s.ID(), v.now.Sum, history.Restoring); err != nil {
		return false, "", err
	}
	root, err := os.OpenRoot(m.Top)
	if err != nil {
		return false, "", err
	}
	defer root.Close()
	written, err := glob.Compile(plan.Patterns(s.Writes))
	if err != nil {
		return false, "", err
	}
	if v.present, err = matchOutputs(s.Writes, m.Files); err != nil {
		return false, "", err
	}
	how := store.Restoring{
		Staging: path.Join(history.FolderName, history.Staging(s.ID())), Present: v.present, May: written.Match,
		Known: m.known(s, v), Aside: m.aside(),
	}
	moved, err := m.Store.Restore(ctx, entry, root, how)
	m.Files.Forget()
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if len(moved) > 0 {
		aside = how.Aside
	}
	if err != nil {
		return false, aside, err
	}
	outputs, err := matchOutputs(s.Writes, m.Files)
	if err != nil {
		return false, aside, err
	}
	if err := m.readAgain(s, v, inputs, outputs); err != nil {
		return false, aside, err
	}
	return true, aside, m.write(s, v, outputs, v.last)
}

// aside returns the folder into which is moved what stands in the way of outputs,
// from the top folder, with slashes.
func (m *Memory) aside() string { return path.Join(history.FolderName, "replaced", m.Run) }

// known returns which outputs of a step are what its last good run left, or
// what it reads: running it would replace that, too.
func (m *Memory) known(s *plan.Step, v *Verdict) func(files.Found) bool {
	record, _ := m.Ledger.Read(s.ID()) // without one, none is known
	left := make(map[string]string, len(record.Outputs))
	for _, f := range record.Outputs {
		if !f.Beside {
			left[f.Path] = f.Mark
		}
	}
	for _, f := range v.reads {
		left[f.Path] = markOf(f)
	}
	return func(f files.Found) bool { return left[f.Path] == markOf(f) }
}
