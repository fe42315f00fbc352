//go:build !unix

package files

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
)

// readFolder reads the names of f and asks for each. f is locked.
func (t *Tree) readFolder(f *folder, gen int32) error {
	found, err := os.ReadDir(t.absolute(f, ""))
	if err != nil {
		f.changed()
		f.entries = nil
		return err
	}
	names := make([]string, len(found))
	for i, e := range found {
		names[i] = e.Name()
	}
	slices.Sort(names)
	f.merge(names)
	for i := range f.entries {
		if e := &f.entries[i]; e.asked != gen {
			f.take(e, stampOf(t.absolute(f, e.name)), gen)
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
	switch mode := info.Mode(); {
	case mode.IsRegular():
		s.kind = File
	case mode.IsDir():
		s.kind = Folder
	case mode&fs.ModeSymlink != 0:
		s.kind = Link
	default:
		s.kind = Other
	}
	return s
}

// rawFile is an open file.
type rawFile struct{ *os.File }

// openFolder is the path of a folder.
type openFolder string

func openDir(name string) (openFolder, error) { return openFolder(name), nil }

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
