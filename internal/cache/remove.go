package cache

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
)

// Made is what a recorded call left, as far as it is still there.
type Made struct {
	Record history.Record
	Paths  []string // as the call left them
	Edited []string // changed by somebody since
}

// Made returns what recorded calls made, sorted by call: not what they read, and not
// what only stood beside their outputs. wanted chooses among the records.
func (c *Cache) Made(wanted func(*history.Record) bool) ([]Made, error) {
	records := c.Ledger.All()
	_, formatted := writtenBy(records)
	var all []Made
	for _, r := range records {
		if !wanted(&r) {
			continue
		}
		made, err := c.made(r, formatted)
		if err != nil {
			return nil, err
		}
		if len(made.Paths)+len(made.Edited) > 0 {
			all = append(all, made)
		}
	}
	slices.SortFunc(all, func(a, b Made) int { return strings.Compare(a.Record.Call, b.Record.Call) })
	return all, nil
}

// writtenBy returns the files that recorded calls made, by their paths, and how
// calls left files that they only changed in place.
func writtenBy(records []history.Record) (made map[string]bool, formatted map[string][]fingerprint.File) {
	made, formatted = map[string]bool{}, map[string][]fingerprint.File{}
	for _, r := range records {
		read := readBy(r)
		for _, f := range r.Outputs {
			switch {
			case f.Beside, slices.ContainsFunc(r.Stale, func(stale fingerprint.File) bool { return stale.Path == f.Path }):
			case read[f.Path]:
				formatted[f.Path] = append(formatted[f.Path], f)
			default:
				made[f.Path] = true
			}
		}
	}
	return made, formatted
}

// made returns what is still there of what a call left. What was only changed in
// place since, as formatted tells, counts as left by it, too.
func (c *Cache) made(r history.Record, formatted map[string][]fingerprint.File) (Made, error) {
	made := Made{Record: r}
	read := readBy(r)
	for _, f := range r.Outputs {
		if read[f.Path] || f.Beside {
			continue
		}
		mark, err := c.markNow(f.Path)
		switch {
		case err != nil:
			return made, err
		case mark == "":
		case f.Accepted:
			made.Edited = append(made.Edited, f.Path)
		case mark == f.Mark || slices.ContainsFunc(formatted[f.Path], func(in fingerprint.File) bool { return in.Was == f.Mark && in.Mark == mark }):
			made.Paths = append(made.Paths, f.Path)
		default:
			made.Edited = append(made.Edited, f.Path)
		}
	}
	return made, nil
}

// readBy returns the files that a recorded call read.
func readBy(r history.Record) map[string]bool {
	read := make(map[string]bool, len(r.Fingerprint.Files))
	for _, f := range r.Fingerprint.Files {
		read[f.Path] = true
	}
	return read
}

// markNow returns the mark of what stands at a path; empty if nothing does.
func (c *Cache) markNow(name string) (string, error) {
	set, err := glob.Compile([]glob.Pattern{{Text: glob.Escape(name)}})
	if err != nil {
		return "", err
	}
	found, err := c.Files.Outputs(set, 0)
	switch {
	case err != nil || len(found) == 0:
		return "", err
	case len(found) > 1 || found[0].Path != name:
		return "a folder that holds something", nil
	}
	return markOf(found[0]), nil
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
// what it removed, with what went wrong. Files behind a link are left.
func (c *Cache) Sweep(paths []string) (removed []string, err error) {
	root, err := os.OpenRoot(c.Top)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	var failed []error
	for _, p := range paths {
		if throughLink(root, p) {
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
	c.Files.InvalidateAll()
	return removed, errors.Join(failed...)
}
