package session

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"tugline/internal/files"
	"tugline/internal/glob"
	"tugline/internal/plan"
	"tugline/internal/watch"
)

// sources are what plans were made from besides the project file: the sources of
// lists and variables, and env files, there or not.
type sources struct {
	mu    sync.Mutex
	globs map[string]listSource
	paths map[string]files.Look // by absolute path: how the file looked when it was read
}

// listSource is a list of files.
type listSource struct {
	patterns []glob.Pattern
	paths    []string // what they meant
}

// addFile notes that a plan is made from the file at an absolute path, which is read
// afterwards.
func (s *sources) addFile(path string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.paths == nil {
		s.paths = map[string]files.Look{}
	}
	s.paths[path] = files.LookAt(path)
}

func (s *sources) addGlobs(globs []plan.Glob, paths []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.globs == nil {
		s.globs = map[string]listSource{}
	}
	patterns := plan.Patterns(globs)
	s.globs[fmt.Sprint(patterns)] = listSource{patterns, paths}
}

// lists returns all sources as lists of patterns from a folder.
func (s *sources) lists(top string) [][]glob.Pattern {
	s.mu.Lock()
	defer s.mu.Unlock()
	var lists [][]glob.Pattern
	for _, key := range slices.Sorted(maps.Keys(s.globs)) {
		lists = append(lists, s.globs[key].patterns)
	}
	for _, p := range slices.Sorted(maps.Keys(s.paths)) {
		lists = append(lists, pathPattern(top, p))
	}
	return lists
}

// changed reports whether a source is no longer what a plan was made from.
func (s *sources) changed(tree *files.Tree) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for p, look := range s.paths {
		if files.LookAt(p) != look {
			return true
		}
	}
	for _, l := range s.globs {
		found, err := tree.Match(set(l.patterns))
		if err != nil || !slices.EqualFunc(found, l.paths, func(f files.Found, p string) bool { return f.Path == p }) {
			return true
		}
	}
	return false
}

// pathPattern returns the list that means one absolute path, from a folder.
func pathPattern(top, p string) []glob.Pattern {
	return []glob.Pattern{{Text: glob.Escape(fromTop(top, p))}}
}

// fromTop returns an absolute path as it is from a folder, with slashes.
func fromTop(top, p string) string {
	rel, err := filepath.Rel(top, p)
	if err != nil {
		return filepath.ToSlash(p)
	}
	return filepath.ToSlash(rel)
}

// projectFiles returns the paths of the project file and its parts, those that are
// optional and not there as well.
func (s *Session) projectFiles() []string {
	var paths []string
	for _, f := range s.Project.Files {
		paths = append(paths, fromTop(s.Project.Folder, f.Source.Path))
		for _, part := range f.Parts {
			if part.File == nil {
				paths = append(paths, fromTop(s.Project.Folder, filepath.Join(f.Folder, filepath.FromSlash(part.Path.Value))))
			}
		}
	}
	return paths
}

// isProjectFile reports whether a path is a project file, or a folder with one.
func (k *rounds) isProjectFile(p string) bool {
	return slices.ContainsFunc(k.projectFiles(), func(file string) bool {
		return p == file || strings.HasPrefix(file, p+"/") || strings.HasPrefix(p, file+"/")
	})
}

// watch has the watcher watch what a plan reads and was made from. It reports whether
// that is other than before.
func (k *rounds) watch(pl *plan.Plan) bool {
	lists := k.sources.lists(k.Project.Folder)
	for _, p := range k.projectFiles() {
		lists = append(lists, []glob.Pattern{{Text: glob.Escape(p)}})
	}
	var writes [][]glob.Pattern
	for _, s := range pl.Steps {
		reads := s.Reads
		if listed, known := k.listed[s.ID()]; known && s.Depfile != "" {
			reads = s.ReadsWith(listed)
		}
		for _, globs := range [][]plan.Glob{reads, s.WatchAlso, s.When} {
			if len(globs) > 0 {
				lists = append(lists, plan.Patterns(globs))
			}
		}
		if len(s.Writes) > 0 {
			writes = append(writes, plan.Patterns(s.Writes))
		}
	}
	k.writes = sets(writes)
	key := fmt.Sprint(lists)
	if key == k.watched {
		return false
	}
	k.watched = key
	k.watcher.Watch(watchScope(sets(lists)))
	return true
}

// watchScope returns the scope of lists of patterns.
func watchScope(sets *glob.Sets) watch.Scope {
	return watch.Scope{
		Roots: sets.Roots(),
		Match: func(p string) bool { return !files.NeverMatched(p) && sets.Match(p) },
		Below: func(p string, link bool) bool { return !files.NeverMatched(p) && sets.Below(p, link) },
	}
}
