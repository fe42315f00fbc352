package engine

import (
	"path"
	"slices"
	"strings"

	"tugline/internal/files"
	"tugline/internal/glob"
	"tugline/internal/plan"
)

// view is the files of a project, as they are or as they will be.
type view interface {
	Match(*glob.Set) ([]files.Found, error)
	Sum(*glob.Set) (files.Digest, error)
	MatchAndSum(*glob.Set) ([]files.Found, files.Digest, error)
}

// ahead is the files as they will be when some steps have been restored: a
// restore leaves exactly the outputs that were kept, and those are known.
type ahead struct {
	view
	restored []*restoration
}

// restoration is what a restore of a step will leave.
type restoration struct {
	before []files.Found // its outputs as they are now
	after  []files.Found
}

// restoration returns what a restore of s will leave, which is kept under key;
// nil if that is not known.
func (m *Memory) restoration(s *plan.Step, key string) *restoration {
	entry, ok := m.Store.Peek(key)
	if !ok {
		return nil
	}
	now, err := m.match(s.Writes)
	if err != nil {
		return nil
	}
	r := &restoration{before: now, after: make([]files.Found, 0, len(entry.Files))}
	for _, f := range entry.Files {
		if f.Link != "" {
			return nil // what is behind it counts, too
		}
		r.after = append(r.after, files.Found{Path: f.Path, Kind: files.File, Mode: f.Mode, Size: f.Size, Digest: f.Digest})
	}
	return r
}

func (a *ahead) Match(set *glob.Set) ([]files.Found, error) {
	found, err := a.view.Match(set)
	if err != nil {
		return nil, err
	}
	goes := map[string]bool{}
	for _, r := range a.restored {
		for i := range r.before {
			goes[r.before[i].Path] = true
		}
	}
	found = slices.DeleteFunc(found, func(f files.Found) bool { return goes[f.Path] })
	for _, r := range a.restored {
		for _, f := range r.after {
			if set.Match(f.Path) {
				found = append(found, f)
			}
		}
	}
	slices.SortFunc(found, inOrder)
	return found, nil
}

func (a *ahead) Sum(set *glob.Set) (files.Digest, error) {
	_, sum, err := a.MatchAndSum(set)
	return sum, err
}

func (a *ahead) MatchAndSum(set *glob.Set) ([]files.Found, files.Digest, error) {
	found, err := a.Match(set)
	return found, files.SumOf(found), err
}

// inOrder compares by where [files.Tree.Match] tells of a file: those of a
// folder stand before those of the folders in it.
func inOrder(a, b files.Found) int {
	return slices.Compare(namesTo(a.Path), namesTo(b.Path))
}

// namesTo returns the names on the way to a file; its own is marked to stand
// before those of folders.
func namesTo(file string) []string {
	folder, name := path.Split(file)
	if folder == "" {
		return []string{"\x00" + name}
	}
	return append(strings.Split(strings.TrimSuffix(folder, "/"), "/"), "\x00"+name)
}
