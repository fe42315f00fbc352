package project

import (
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strings"

	"tugline/internal/parallel"
	"tugline/internal/toml"
)

// Load reads the project file at path, an absolute path, with all its parts,
// and checks them. show returns how a path is shown to the user. A file that
// cannot be read gives a [*ReadError]. When the files can be read but are
// wrong, the error is a [Diagnostics] with all that is wrong in them.
func Load(path string, show func(path string) string) (*Project, error) {
	text, err := readFile(path)
	if err != nil {
		return nil, &ReadError{Name: show(path), Err: err}
	}
	l := &loader{read: readFile, show: show}
	return l.load(path, text)
}

// Parse is [Load] for one text that is already read. It opens no file, so the
// text must have no parts.
func Parse(path, name string, text []byte) (*Project, error) {
	l := &loader{
		read: func(string) ([]byte, error) { return nil, fs.ErrNotExist },
		show: func(string) string { return name },
	}
	return l.load(path, text)
}

func readFile(path string) ([]byte, error) {
	text, err := os.ReadFile(path)
	if err == nil && len(text) > math.MaxInt32 {
		err = errors.New("it is larger than 2 GiB")
	}
	return text, err
}

// loader reads the files of a project, those that the files of a round take in
// at the same time.
type loader struct {
	read   func(path string) ([]byte, error) // may be called from several goroutines at once
	show   func(path string) string
	files  []*File
	byPath map[string]*File // by what identity gives
	diagnostics
}

// reading is one file that is being read.
type reading struct {
	file   *File
	source *Source
	id     string  // as identity gives it
	takers []taker // that take it in; none: it is the top file
	err    error   // why there is no text
	found  Diagnostics
}

// taker is a part with the file that has it.
type taker struct {
	file *File
	part *Part
}

func (l *loader) load(path string, text []byte) (*Project, error) {
	l.byPath = map[string]*File{}
	top := &reading{file: &File{Folder: filepath.Dir(path), echo: true}, source: l.source(path), id: identity(path)}
	top.decode(text)
	l.finish(top)
	for from := 0; from < len(l.files); {
		round := l.files[from:]
		from = len(l.files)
		l.parts(round)
	}
	p := &Project{File: l.files[0], Files: l.files}
	for _, f := range p.Files {
		p.Tasks = append(p.Tasks, f.Tasks...)
	}
	for i, t := range p.Tasks {
		t.Index = i
	}
	c := &checker{project: p, diagnostics: l.diagnostics}
	c.parts()
	c.lists()
	c.calls()
	c.cycles()
	if len(c.found) > 0 {
		c.found.Sort()
		return nil, c.found
	}
	return p, nil
}

func (l *loader) source(path string) *Source {
	return &Source{Path: path, Name: l.show(path)}
}

// decode makes a File of text.
func (r *reading) decode(text []byte) {
	f := r.file
	r.source.Text = normalize(text)
	f.Source = r.source
	d := &decoder{file: f}
	if at := invalidUTF8(f.Source.Text); at >= 0 {
		d.report(spanOf(f.Source, at, 1), "save it as UTF-8", "the file is not UTF-8 from here on")
		f.skipped = f.Source.Text
	} else {
		read := toml.Parse(f.Source.Text)
		f.skipped = read.Skipped
		for _, problem := range read.Problems {
			d.found = append(d.found, d.syntax(problem))
		}
		d.decode(read.Root)
	}
	r.found = d.found
}

// syntax returns what is wrong with the TOML of the file.
func (d *decoder) syntax(p toml.Problem) Diagnostic {
	out := Diagnostic{Span: d.at(p.At), Msg: p.Msg}
	if p.First != nil {
		out.Related = []Diagnostic{{Span: d.at(*p.First), Msg: "it was defined first here"}}
	}
	return out
}

// parts reads the parts of files that are not read yet.
func (l *loader) parts(files []*File) {
	var next []*reading
	byPath := map[string]*reading{} // by what identity gives
	for _, f := range files {
		for _, part := range f.Parts {
			path := part.file(f.Folder)
			id := identity(path)
			r := byPath[id]
			switch known := l.byPath[id]; {
			case known != nil:
				l.again(taker{f, part}, known)
				continue
			case r == nil:
				r = &reading{id: id, source: l.source(path), file: &File{
					Folder: filepath.Dir(path), Prefix: f.Prefix + part.Name + "/", Parent: f, ParentEnv: part.Env, shell: f.shell, echo: f.echo,
				}}
				byPath[id], next = r, append(next, r)
			}
			r.takers = append(r.takers, taker{f, part})
		}
	}
	parallel.Do(len(next), 1, func(from, to int) {
		for _, r := range next[from:to] {
			var text []byte
			if text, r.err = l.read(r.source.Path); r.err == nil {
				r.decode(text)
			}
		}
	})
	for _, r := range next {
		l.finish(r)
	}
}

// finish enters what was read among the files of the project, or reports why
// it could not be read.
func (l *loader) finish(r *reading) {
	if r.err != nil {
		for _, t := range r.takers {
			l.unread(t, r)
		}
		return
	}
	r.source.order = len(l.files)
	l.files = append(l.files, r.file)
	l.byPath[r.id] = r.file
	l.found = append(l.found, r.found...)
	for i, t := range r.takers {
		if i == 0 {
			t.part.File = r.file
		} else {
			l.again(t, r.file)
		}
	}
}

// again is for a part whose file is a part already.
func (l *loader) again(t taker, known *File) {
	t.part.File = known
	if len(t.part.Env) > 0 {
		l.report(t.part.Env[0].Span, "", "the part %q is taken in already, as %q: its env must stand there", t.file.Prefix+t.part.Name, strings.TrimSuffix(known.Prefix, "/"))
	}
}

// unread is for a part whose file could not be read.
func (l *loader) unread(t taker, r *reading) {
	missing := errors.Is(r.err, fs.ErrNotExist)
	if missing && t.part.Optional {
		return
	}
	t.part.broken = true
	if missing {
		l.report(t.part.Path.Span, "make it, or give the part optional = true", "part %q: %s does not exist", t.part.Name, r.source.Name)
	} else {
		l.report(t.part.Path.Span, "", "the part %q: %v", t.part.Name, &ReadError{Name: r.source.Name, Err: r.err})
	}
}

// file returns the path of the project file that p means in a file of folder.
func (p *Part) file(folder string) string {
	path := filepath.FromSlash(p.Path.Value)
	if !filepath.IsAbs(path) {
		path = filepath.Join(folder, path)
	}
	if strings.HasSuffix(path, ".toml") {
		return path
	}
	return filepath.Join(path, FileName)
}

// parts reports every circle of files that take each other in.
func (c *checker) parts() {
	open, done := map[*File]bool{}, map[*File]bool{}
	var path []*Part
	var files []*File // in which the parts of path stand
	var walk func(f *File)
	walk = func(f *File) {
		open[f] = true
		for _, part := range f.Parts {
			if part.File == nil || done[part.File] {
				continue
			}
			path, files = append(path, part), append(files, f)
			if open[part.File] {
				c.partCircle(part.File, files, path)
			} else {
				walk(part.File)
			}
			path, files = path[:len(path)-1], files[:len(files)-1]
		}
		open[f], done[f] = false, true
	}
	walk(c.project.File)
}

// partCircle reports the circle that ends path and comes back to start.
func (c *checker) partCircle(start *File, files []*File, path []*Part) {
	from := len(files) - 1
	for files[from] != start {
		from--
	}
	names := []string{start.Source.Name}
	var places []Diagnostic
	for i := from; i < len(path); i++ {
		next := path[i].File.Source.Name
		places = append(places, Diagnostic{Span: path[i].Span, Msg: fmt.Sprintf("%s takes in %s", files[i].Source.Name, next)})
		names = append(names, next)
	}
	c.circle("project files take each other in, in a circle", fmt.Sprintf("%s takes in itself", start.Source.Name), names, places)
}
