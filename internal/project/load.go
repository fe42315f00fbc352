package project

import (
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strings"
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

// loader reads the files of a project.
type loader struct {
	read   func(path string) ([]byte, error)
	show   func(path string) string
	files  []*File
	byPath map[string]*File // by what identity gives
	diagnostics
}

func (l *loader) load(path string, text []byte) (*Project, error) {
	l.byPath = map[string]*File{}
	l.file(&File{Folder: filepath.Dir(path), echo: true}, identity(path), path, text)
	for i := 0; i < len(l.files); i++ { // the list grows: parts have parts
		for _, part := range l.files[i].Parts {
			l.part(l.files[i], part)
		}
	}
	p := &Project{File: l.files[0], Files: l.files}
	for _, f := range p.Files {
		p.Tasks = append(p.Tasks, f.Tasks...)
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

// file reads the text of f, which stands at path and is known by id.
func (l *loader) file(f *File, id, path string, text []byte) {
	f.Source = &Source{Path: path, Name: l.show(path), Text: normalize(text), order: len(l.files)}
	l.files = append(l.files, f)
	l.byPath[id] = f
	if at := invalidUTF8(f.Source.Text); at >= 0 {
		l.report(spanOf(f.Source, at, 1), "save it as UTF-8", "the file is not UTF-8 from here on")
		f.skipped = f.Source.Text
		return
	}
	read := parseTOML(f.Source)
	f.skipped = read.skipped
	d := &decoder{file: f}
	d.found = read.diagnostics
	d.decode(read.root)
	l.found = append(l.found, d.found...)
}

// part reads one part of f, unless that was done for another one.
func (l *loader) part(f *File, part *Part) {
	path := part.file(f.Folder)
	id := identity(path)
	if known := l.byPath[id]; known != nil {
		part.File = known
		if len(part.Env) > 0 {
			l.report(part.Env[0].Span, "", "the part %q is taken in already, as %q: its env must stand there", f.Prefix+part.Name, strings.TrimSuffix(known.Prefix, "/"))
		}
		return
	}
	text, err := l.read(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && part.Optional:
		return
	case errors.Is(err, fs.ErrNotExist):
		part.broken = true
		l.report(part.Path.Span, "make it, or give the part optional = true", "the part %q is not there: there is no %s", part.Name, l.show(path))
		return
	case err != nil:
		part.broken = true
		l.report(part.Path.Span, "", "the part %q: %v", part.Name, &ReadError{Name: l.show(path), Err: err})
		return
	}
	part.File = &File{
		Folder: filepath.Dir(path), Prefix: f.Prefix + part.Name + "/", Around: f, Given: part.Env, shell: f.shell, echo: f.echo,
	}
	l.file(part.File, id, path, text)
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
