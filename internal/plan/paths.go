package plan

import (
	"errors"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tugline/internal/glob"
	"tugline/internal/project"
)

// Glob is a pattern of what a step reads or writes, filled in.
type Glob struct {
	Pattern string // relative to the top folder of the project, with slashes; ../ leads out of it
	Not     bool   // it takes away from what the patterns before it match
	Folder  bool   // it ends with a slash: it means a folder
	Listed  bool   // it is a path that a depfile listed
	Text    project.Text
}

// side returns g to be held against other patterns: whether a plain path is a
// folder is asked of the world.
func (b *builder) side(g Glob) glob.Side {
	side := glob.Side{Pattern: g.Pattern}
	if name, plain := glob.Base(g.Pattern); plain && !g.Folder {
		isFolder, asked := b.isFolder[name]
		if !asked {
			isFolder = b.req.IsFolder != nil && b.req.IsFolder(name)
			if b.isFolder == nil {
				b.isFolder = map[string]bool{}
			}
			b.isFolder[name] = isFolder
		}
		side.File = !isFolder
	}
	return side
}

// Patterns returns globs as they are matched.
func Patterns(globs []Glob) []glob.Pattern {
	out := make([]glob.Pattern, len(globs))
	for i, g := range globs {
		out[i] = glob.Pattern{Text: g.Pattern, Not: g.Not}
	}
	return out
}

// paths fills in what s reads and writes.
func (b *builder) paths(s *Step) {
	t := s.Task
	if len(t.When.Files) > 0 {
		s.When = b.globs([]project.Paths{{Globs: t.When.Files}}, t.File, s.scope.value)
	}
	if len(t.WatchAlso) > 0 {
		s.WatchAlso = b.globs([]project.Paths{{Globs: t.WatchAlso}}, t.File, s.scope.value)
	}
	if len(t.Reads)+len(t.Writes) == 0 && t.Depfile.Value == "" {
		return
	}
	s.Reads = b.globs(t.Reads, t.File, s.scope.value)
	s.Writes = b.globs(t.Writes, t.File, s.scope.value)
	b.checkWrites(s.Writes)
	if len(s.Reads) > 0 || t.Depfile.Value != "" {
		for f := t.File; f != nil; f = f.Parent {
			for _, g := range b.globs([]project.Paths{{Globs: f.Ignore}}, f, b.base(f).value) {
				g.Not = !g.Not
				s.ignored = append(s.ignored, g)
			}
		}
	}
	if len(s.Reads) > 0 {
		s.Reads = append(s.Reads, s.ignored...)
	}
	b.depfile(s)
}

// depfile fills in where the program of s lists what it read, and adds what it listed
// after its last good run to what s reads.
func (b *builder) depfile(s *Step) {
	text := s.Task.Depfile
	if text.Value == "" {
		return
	}
	value, err := text.Expand(s.scope.value)
	if err == nil && value == "" {
		err = errors.New("the path is empty once its variables are filled in")
	}
	if err != nil {
		b.found = append(b.found, project.Diagnostic{Span: text.Span, Msg: err.Error()})
		return
	}
	if !filepath.IsAbs(value) {
		value = filepath.Join(s.Task.File.Folder, filepath.FromSlash(value))
	}
	s.Depfile = value
	if b.req.Listed != nil {
		s.Reads = s.ReadsWith(b.req.Listed(idOf(s.Name)))
	}
}

// WriteFolders returns the folders of what s writes, which are made before it starts, as
// absolute paths below the folder top.
func (s *Step) WriteFolders(top string) []string {
	var folders []string
	for _, g := range s.Writes {
		folder, plain := glob.Base(g.Pattern)
		if plain && !g.Folder {
			folder = path.Dir(folder)
		}
		if !g.Not && folder != "" && folder != "." {
			folders = append(folders, filepath.Join(top, filepath.FromSlash(folder)))
		}
	}
	slices.Sort(folders)
	return slices.Compact(folders)
}

// Secrets returns the names of the variables of s whose values are secret, sorted.
func (s *Step) Secrets() []string { return slices.Sorted(maps.Keys(s.scope.world.secretNames)) }

// Declared returns what s reads by its declaration alone, without what a depfile listed.
func (s *Step) Declared() []Glob {
	return slices.DeleteFunc(slices.Clone(s.Reads), func(g Glob) bool { return g.Listed })
}

// ReadsWith returns what s reads by its declaration, and with the paths that its depfile
// listed.
func (s *Step) ReadsWith(listed []string) []Glob {
	all := s.Declared()
	for _, p := range listed {
		text := s.Task.Depfile
		text.Value = p
		all = append(all, Glob{Pattern: glob.Escape(p), Listed: true, Text: text})
	}
	return all
}

// Listed returns what is to count of the files that the depfile of s lists, as paths from
// the folder top: not what it writes itself or what the project ignores.
func (s *Step) Listed(top string, paths []string) ([]string, error) {
	written, err := glob.Compile(Patterns(s.Writes))
	if err != nil {
		return nil, err
	}
	ignored := slices.Clone(s.ignored)
	for i := range ignored {
		ignored[i].Not = !ignored[i].Not
	}
	skipped, err := glob.Compile(Patterns(ignored))
	if err != nil {
		return nil, err
	}
	var all []string
	for _, p := range paths {
		p = filepath.FromSlash(p)
		if !filepath.IsAbs(p) {
			p = filepath.Join(s.Folder, p)
		}
		if rel, err := filepath.Rel(top, p); err == nil {
			p = rel
		}
		p = filepath.ToSlash(filepath.Clean(p))
		if !written.Match(p) && !skipped.Match(p) && !slices.Contains(all, p) {
			all = append(all, p)
		}
	}
	return all, nil
}

// Unordered returns a task that writes one of some files that the depfile of s lists, though
// nothing orders it before s; nil: there is none. What changes files in place, and what is on
// request, needs no order.
func (p *Plan) Unordered(s *Step, listed []string) (t *project.Task, path string) {
	b := p.builder
	if p.written == nil {
		p.written = b.allWriters()
	}
	seen := map[*project.Task]bool{s.Task: true}
	for _, name := range listed {
		p.written.overlapping(b.side(Glob{Pattern: glob.Escape(name)}), func(w written) {
			if t != nil || seen[w.task] {
				return
			}
			seen[w.task] = true
			globs := b.unfilled(w.task, w.task.Writes, nil)
			set, err := glob.Compile(Patterns(globs))
			switch {
			case err != nil || w.task.OnRequest || b.readsItsOutput(w.task):
				return
			case !set.Match(name):
				delete(seen, w.task) // another file may be one of its
				return
			}
			comesBefore := func(other *Step) bool { return other.Task == w.task && precedes(other.end(), s) }
			if !slices.ContainsFunc(p.Steps, comesBefore) {
				t, path = w.task, name
			}
		})
	}
	return t, path
}

// globs fills in patterns of file by lookup. What a variable holds is literal.
func (b *builder) globs(paths []project.Paths, file *project.File, lookup func(string) (string, bool)) []Glob {
	var out []Glob
	for _, p := range paths {
		for _, g := range p.Globs {
			text := g.Pattern()
			value, err := text.Expand(func(name string) (string, bool) {
				value, ok := lookup(name)
				return glob.Escape(value), ok
			})
			if err == nil && value == "" {
				err = errors.New("the pattern is empty once its variables are filled in")
			}
			if err != nil {
				b.found = append(b.found, project.Diagnostic{Span: text.Span, Msg: err.Error()})
				continue
			}
			out = append(out, Glob{Pattern: b.fromTop(value, file), Not: g.Not, Folder: strings.HasSuffix(value, "/"), Text: g.Text})
		}
	}
	return out
}

// fromTop returns a pattern of file as it counts from the top folder.
func (b *builder) fromTop(pattern string, file *project.File) string {
	top := b.plan.Project.Folder
	pattern = filepath.ToSlash(pattern)
	base := filepath.ToSlash(file.Folder)
	if path.IsAbs(pattern) {
		base = "/"
	}
	if base == filepath.ToSlash(top) {
		return path.Clean(pattern)
	}
	rel, err := filepath.Rel(top, filepath.FromSlash(base))
	if err != nil {
		return path.Clean(pattern) // on another drive
	}
	return path.Join(glob.Escape(filepath.ToSlash(rel)), pattern)
}

// checkWrites reports patterns of outputs that may mean what is not a task's to write.
func (b *builder) checkWrites(writes []Glob) {
	for _, g := range writes {
		if strings.HasPrefix(g.Pattern, "../") || g.Pattern == ".." {
			b.found = append(b.found, project.Diagnostic{Span: g.Text.Span, Msg: fmt.Sprintf("%q lies outside the project: a task may not write there", g.Text.Value)})
		}
	}
	set, err := glob.Compile(Patterns(writes))
	if err != nil {
		return // the variables came to something odd; matching reports it
	}
	for _, f := range b.plan.Project.Files {
		name, err := filepath.Rel(b.plan.Project.Folder, f.Source.Path)
		if err == nil && len(writes) > 0 && set.Match(filepath.ToSlash(name)) {
			b.found = append(b.found, project.Diagnostic{
				Span: writes[0].Text.Span, Msg: fmt.Sprintf("what is written takes in the project file %s", f.Source.Name), Hint: "name a folder that holds nothing but outputs",
			})
		}
	}
}

// pathVariables returns the variables that hold the named paths of t.
func pathVariables(t *project.Task) []project.Var {
	var vars []project.Var
	for _, p := range slices.Concat(t.Reads, t.Writes) {
		if p.Variable {
			v := project.FixedVar(p.Name, "")
			v.Fixed, v.Span, v.Value = false, p.Span, p.Globs[0].Text
			vars = append(vars, v)
		}
	}
	return vars
}

// fromFolder returns a path of a task's file as it is seen from where the task runs.
func (sc *scope) fromFolder(value string) string {
	value = filepath.FromSlash(value)
	if filepath.IsAbs(value) {
		return value
	}
	rel, err := filepath.Rel(sc.folder, filepath.Join(sc.file.Folder, value))
	if err != nil {
		return filepath.Join(sc.file.Folder, value)
	}
	if strings.HasPrefix(rel, "-") {
		rel = "." + string(filepath.Separator) + rel // else it looks like an option
	}
	return rel
}
