package engine

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/glob"
	"tugline/internal/history"
	"tugline/internal/plan"
)

// Outputs returns the files that the steps of p write, as they are now, sorted.
// What a step also reads is left out: it was there before.
func (m *Memory) Outputs(p *plan.Plan, wanted func(*plan.Step) bool) ([]string, error) {
	var paths []string
	for _, s := range p.Steps {
		if !wanted(s) || len(s.Writes) == 0 {
			continue
		}
		found, err := matchOutputs(s.Writes, m.Files)
		if err != nil {
			return nil, err
		}
		reads, err := glob.Compile(plan.Patterns(s.Reads))
		if err != nil {
			return nil, err
		}
		for i := range found {
			if !reads.Match(found[i].Path) {
				paths = append(paths, found[i].Path)
			}
		}
	}
	slices.Sort(paths)
	return slices.Compact(paths), nil
}

// Stale is what a call left that no task writes any more.
type Stale struct {
	Record history.Record
	Paths  []string // those that are still as it left them
}

// Stale returns the outputs of earlier runs that no pattern of written means,
// none of which takes away,
// and that nobody has changed since, sorted by call.
func (m *Memory) Stale(written []plan.Glob) ([]Stale, error) {
	patterns := make([]string, len(written))
	for i, g := range written {
		patterns[i] = g.Pattern
	}
	tasks, err := glob.NewUnion(patterns)
	if err != nil {
		return nil, err
	}
	var all []Stale
	for _, r := range m.Ledger.All() {
		stale := Stale{Record: r}
		read := map[string]bool{}
		for _, f := range r.Fingerprint.Files {
			read[f.Path] = true
		}
		for _, f := range r.Outputs {
			if read[f.Path] || tasks.Match(f.Path) { // what it read was there before it
				continue
			}
			if same, err := m.isStill(f.Path, f.Mark); err != nil {
				return nil, err
			} else if same {
				stale.Paths = append(stale.Paths, f.Path)
			}
		}
		if len(stale.Paths) > 0 {
			all = append(all, stale)
		}
	}
	slices.SortFunc(all, func(a, b Stale) int { return strings.Compare(a.Record.Call, b.Record.Call) })
	return all, nil
}

// isStill reports whether a file is what it was.
func (m *Memory) isStill(name, mark string) (bool, error) {
	set, err := glob.Compile([]glob.Pattern{{Text: glob.Escape(name)}})
	if err != nil {
		return false, err
	}
	found, err := m.Files.Match(set)
	if err != nil || len(found) != 1 {
		return false, err
	}
	return markOf(found[0]) == mark, nil
}

func markOf(f files.Found) string { return fingerprint.Files([]files.Found{f})[0].Mark }

// throughLink reports whether a folder on the way to a path is a link: what is
// there has another path, under which it may be somebody else's.
func throughLink(root *os.Root, p string) bool {
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		if info, err := root.Lstat(filepath.FromSlash(dir)); err == nil && info.Mode()&os.ModeSymlink != 0 {
			return true
		}
	}
	return false
}

// Sweep removes files, and the folders that become empty with that. It returns
// what it removed, with what went wrong. keep tells which files are to be left;
// those behind a link are left, too.
func (m *Memory) Sweep(paths []string, keep func(path string) bool) (removed []string, err error) {
	root, err := os.OpenRoot(m.Top)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	var failed []error
	for _, p := range paths {
		if keep(p) || throughLink(root, p) {
			continue
		}
		if err := root.Remove(filepath.FromSlash(p)); err != nil {
			if !errors.Is(err, os.ErrNotExist) {
				failed = append(failed, fmt.Errorf("removing %s: %w", p, err))
			}
			continue
		}
		removed = append(removed, p)
		for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
			if root.Remove(filepath.FromSlash(dir)) != nil {
				break // it holds something else
			}
		}
	}
	m.Files.Forget()
	return removed, errors.Join(failed...)
}
