package project

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"syscall"
	"unicode/utf8"
)

// FileName is the name of a project file.
const FileName = "tugline.toml"

// ErrNotFound says that no project file stands in a folder or above it.
var ErrNotFound = errors.New("no " + FileName)

// ReadError says that a project file cannot be read.
type ReadError struct {
	Name string // as it is shown to the user
	Err  error
}

func (e *ReadError) Error() string {
	var path *fs.PathError
	switch {
	case errors.Is(e.Err, syscall.EISDIR):
		return fmt.Sprintf("%s is a folder, not a project file", e.Name)
	case errors.Is(e.Err, fs.ErrNotExist):
		return fmt.Sprintf("there is no project file %s, or it is a link that leads nowhere", e.Name)
	case errors.As(e.Err, &path):
		return fmt.Sprintf("the project file %s cannot be read: %v", e.Name, path.Err)
	}
	return fmt.Sprintf("the project file %s cannot be read: %v", e.Name, e.Err)
}

// Unwrap returns the reason.
func (e *ReadError) Unwrap() error { return e.Err }

// Find returns the path of the project file in folder or in the nearest
// folder above it. The error wraps [ErrNotFound] when there is none.
func Find(folder string) (string, error) {
	for dir := folder; ; dir = filepath.Dir(dir) {
		path := filepath.Join(dir, FileName)
		if _, err := os.Lstat(path); err == nil {
			return path, nil
		} else if !errors.Is(err, fs.ErrNotExist) {
			return "", fmt.Errorf("looking for the project file: %w", err)
		}
		if dir == filepath.Dir(dir) {
			return "", fmt.Errorf("%w in %s or in a folder above it", ErrNotFound, folder)
		}
	}
}

// Load reads the project file at path, an absolute path that is shown to the
// user as name, and checks it. A file that cannot be read gives a [*ReadError].
// When the file can be read but is wrong, the
// error is a [Diagnostics] with all that is wrong in it.
func Load(path, name string) (*Project, error) {
	text, err := os.ReadFile(path)
	if err == nil && len(text) > math.MaxInt32 {
		err = errors.New("it is larger than 2 GiB")
	}
	if err != nil {
		return nil, &ReadError{Name: name, Err: err}
	}
	return Parse(path, name, text)
}

// Parse is [Load] for a text that is already read. It opens no file.
func Parse(path, name string, text []byte) (*Project, error) {
	src := &Source{Path: path, Name: name, Text: normalize(text)}
	if at := invalidUTF8(src.Text); at >= 0 {
		span := spanOf(src, at, 1)
		return nil, Diagnostics{{Span: span, Msg: "the file is not UTF-8 from here on", Hint: "save it as UTF-8"}}
	}
	read := parseTOML(src)
	d := &decoder{
		project:     &Project{Source: src, Folder: filepath.Dir(path), echo: true, byName: map[string]*Task{}},
		diagnostics: read.diagnostics,
		skipped:     read.skipped,
	}
	d.decode(read.root)
	if len(d.diagnostics) > 0 {
		d.diagnostics.Sort()
		return nil, d.diagnostics
	}
	return d.project, nil
}

// normalize takes off a byte order mark and makes every line end a single \n,
// as TOML allows, so that scripts mean the same wherever the file was saved.
func normalize(text []byte) []byte {
	text = bytes.TrimPrefix(text, []byte("\uFEFF"))
	if !bytes.Contains(text, []byte("\r\n")) {
		return text
	}
	return bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
}

// invalidUTF8 returns the offset of the first byte that is not UTF-8, or -1.
func invalidUTF8(text []byte) int {
	if utf8.Valid(text) {
		return -1
	}
	at := 0
	for at < len(text) {
		r, size := utf8.DecodeRune(text[at:])
		if r == utf8.RuneError && size <= 1 {
			break
		}
		at += size
	}
	return at
}
