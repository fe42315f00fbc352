package project

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"unicode/utf8"

	"tugline/internal/toml"
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

// Find returns the path of the project file nearest to folder, in it or above
// it, and of the top file: the outermost one that takes the nearest in as a
// part, or else the nearest itself. The error wraps [ErrNotFound] when there
// is none.
func Find(folder string) (top, nearest string, err error) {
	nearest, err = findAbove(folder)
	if err != nil {
		return "", "", err
	}
	top = nearest
	for outer := nearest; ; {
		up := filepath.Dir(filepath.Dir(outer))
		if up == filepath.Dir(outer) {
			return top, nearest, nil
		}
		if outer, err = findAbove(up); err != nil {
			return top, nearest, nil // what cannot be seen from here takes nothing in
		}
		if takesIn(outer, identity(nearest)) {
			top = outer
		}
	}
}

func findAbove(folder string) (string, error) {
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

// takesIn reports whether the project file at path, or one of its parts, takes
// in the file whose identity is wanted.
func takesIn(path, wanted string) bool {
	seen := map[string]bool{}
	for queue := []string{path}; len(queue) > 0; queue = queue[1:] {
		if seen[identity(queue[0])] {
			continue
		}
		seen[identity(queue[0])] = true
		text, err := os.ReadFile(queue[0])
		if err != nil || !bytes.Contains(text, []byte("parts")) { // the common case, of a large file, too
			continue
		}
		d := &decoder{file: &File{}}
		read := toml.Parse(normalize(text))
		parts := read.Root.Get("parts")
		if parts == nil {
			continue
		}
		for _, p := range d.parts(parts) {
			part := p.file(filepath.Dir(queue[0]))
			if identity(part) == wanted {
				return true
			}
			queue = append(queue, part)
		}
	}
	return false
}

// identity returns what tells two paths of one file to be the same.
func identity(path string) string {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		return real
	}
	return filepath.Clean(path)
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
