//go:build !unix

package files

import (
	"io/fs"
	"os"
	"path/filepath"
)

// readFolder reads the names of f. f is locked.
func (t *Tree) readFolder(f *folder, h *handle) error {
	list, err := os.ReadDir(h.name)
	if err != nil {
		f.changed()
		f.entries = nil
		return err
	}
	f.merge(namesOf(list))
	return nil
}

// stampAll takes the stamps of files of f, as far as they are not known. f is
// locked.
func (t *Tree) stampAll(f *folder, h *handle, files []*entry) error {
	gen := t.generation.Load()
	for _, e := range files {
		if !f.isKnown(e, gen) {
			f.take(e, stampOf(filepath.Join(h.name, e.name)), gen)
		}
	}
	return nil
}

// stampOf returns the stamp of what stands at a path, without following a link.
func stampOf(name string) stamp {
	info, err := os.Lstat(name)
	if err != nil {
		return stamp{}
	}
	return stampFrom(info)
}

func stampFrom(info fs.FileInfo) stamp {
	s := stamp{size: info.Size(), modified: info.ModTime().UnixNano(), mode: uint32(info.Mode().Perm())}
	s.kind = kindOf(info.Mode())
	return s
}

// rawFile is an open file.
type rawFile struct{ *os.File }

// openFolder is the path of a folder.
type openFolder string

func openDir(name string, _ bool) (openFolder, error) { return openFolder(name), nil }

func (dir openFolder) close() {}

func (dir openFolder) open(name string) (rawFile, error) {
	file, err := os.Open(filepath.Join(string(dir), name))
	return rawFile{file}, err
}

// stamp returns the stamp of the file, whatever stands at its path by now.
func (f rawFile) stamp() stamp {
	info, err := f.Stat()
	if err != nil {
		return stamp{}
	}
	return stampFrom(info)
}

func (f rawFile) close() { f.Close() }

func (f rawFile) read(buf []byte) (int, error) { return f.Read(buf) }
