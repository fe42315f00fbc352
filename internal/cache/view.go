package cache

import (
	"context"
	"path"
	"slices"
	"strings"

	"tugline/internal/files"
	"tugline/internal/glob"
	"tugline/internal/plan"
)

// view is the files of a project, as they are or as they will be.
type fileView interface {
	Match(*glob.Set) ([]files.Found, error)
	Sum(*glob.Set) (files.Digest, error)
	MatchAndSum(*glob.Set) ([]files.Found, files.Digest, error)
	Outputs(set *glob.Set, limit int64) ([]files.Found, error)
	SumOutputs(*glob.Set) (files.Digest, error)
}

// viewAfterRestore is the files as they will be when some steps have been restored: a
// restore leaves exactly the outputs that were kept, and those are known.
type viewAfterRestore struct {
	fileView
	restored []*restoration
}

// restoration is what a restore of a step will leave.
type restoration struct {
	before []files.Found // its outputs as they are now
	after  []files.Found
}

// restoration returns what a restore of s will leave, which is kept under key;
// nil if that is not known.
func (c *Cache) restoration(ctx context.Context, s *plan.Step, key string) *restoration {
	entry, ok := c.peek(ctx, key)
	if !ok {
		return nil
	}
	now, err := matchOutputs(s.Writes, c.Files)
	if err != nil {
		return nil
	}
	r := &restoration{before: now, after: make([]files.Found, 0, len(entry.Files))}
	for _, f := range entry.Files {
		if f.Link != "" {
			return nil // what is behind it counts, too
		}
		kind := files.File
		if f.Folder {
			kind = files.Folder
		}
		r.after = append(r.after, files.Found{Path: f.Path, Kind: kind, Mode: f.Mode, Size: f.Size, Digest: f.Digest})
	}
	return r
}

func (a *viewAfterRestore) Match(set *glob.Set) ([]files.Found, error) {
	found, err := a.fileView.Match(set)
	return a.after(set, found, false), err
}

func (a *viewAfterRestore) Outputs(set *glob.Set, limit int64) ([]files.Found, error) {
	found, err := a.fileView.Outputs(set, limit)
	return a.after(set, found, true), err
}

// after returns what set means of files, of which found are there now, when the
// restores are done. folders tells whether empty ones count.
func (a *viewAfterRestore) after(set *glob.Set, found []files.Found, folders bool) []files.Found {
	goes := map[string]bool{}
	for _, r := range a.restored {
		for i := range r.before {
			goes[r.before[i].Path] = true
		}
	}
	found = slices.DeleteFunc(found, func(f files.Found) bool { return goes[f.Path] })
	for _, r := range a.restored {
		for _, f := range r.after {
			if (folders || f.Kind != files.Folder) && set.Match(f.Path) {
				found = append(found, f)
			}
		}
	}
	slices.SortFunc(found, inOrder)
	return found
}

func (a *viewAfterRestore) Sum(set *glob.Set) (files.Digest, error) {
	_, sum, err := a.MatchAndSum(set)
	return sum, err
}

func (a *viewAfterRestore) MatchAndSum(set *glob.Set) ([]files.Found, files.Digest, error) {
	found, err := a.Match(set)
	return found, files.SumOf(found), err
}

func (a *viewAfterRestore) SumOutputs(set *glob.Set) (files.Digest, error) {
	found, err := a.Outputs(set, 0)
	return files.SumOf(found), err
}

// inOrder compares by where [files.Tree.Match] tells of a file: those of a
// folder stand before those of the folders in it.
func inOrder(a, b files.Found) int {
	return slices.Compare(namesTo(a), namesTo(b))
}

// namesTo returns the names on the way to a file; its own is marked to stand
// before those of folders. An empty folder stands where its files would.
func namesTo(f files.Found) []string {
	if f.Kind == files.Folder {
		return append(strings.Split(f.Path, "/"), "\x00")
	}
	folder, name := path.Split(f.Path)
	if folder == "" {
		return []string{"\x00" + name}
	}
	return append(strings.Split(strings.TrimSuffix(folder, "/"), "/"), "\x00"+name)
}
