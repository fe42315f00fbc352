// Package atomicfile writes files whole or not at all, and never through a
// symbolic link.
package atomicfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// tempPattern is the name of a file that is still being written.
const tempPattern = ".new-*"

// Write replaces the file at path with text: a reader sees the old content or
// the new one. The folder must be there. A link at path is replaced, not followed.
func Write(path string, text []byte) error {
	file, err := Create(filepath.Dir(path))
	if err != nil {
		return err
	}
	_, err = file.Write(text)
	return Finish(file, path, err)
}

// Create returns a new file in folder, to be given its name by [Finish].
func Create(folder string) (*os.File, error) { return os.CreateTemp(folder, tempPattern) }

// Finish closes a file of [Create] and gives it its name. If err is not nil, or
// that fails, it removes the file and returns the error.
func Finish(file *os.File, path string, err error) error {
	err = errors.Join(err, file.Close())
	if err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		os.Remove(file.Name()) // best effort: it has no name that counts
	}
	return err
}

// IsTemp reports whether name is that of a file of [Create], left behind if
// nobody writes it any more.
func IsTemp(name string) bool {
	matched, _ := filepath.Match(tempPattern, name) // the pattern is good
	return matched
}

// Open opens a file for writing, with the flags of [os.OpenFile]. A link at path
// is removed if flag has [os.O_CREATE], and is an error otherwise.
func Open(path string, flag int, perm fs.FileMode) (*os.File, error) {
	file, err := openNoFollow(path, flag, perm)
	if flag&os.O_CREATE == 0 || !isLink(path, err) {
		return file, err
	}
	if err := os.Remove(path); err != nil {
		return nil, err
	}
	return openNoFollow(path, flag, perm)
}

// Overwrite writes text into the file at path, which is made if it is not there.
// It is quicker than [Write], but a crash can leave half of text.
func Overwrite(path string, text []byte, perm fs.FileMode) error {
	file, err := Open(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, perm)
	if err != nil {
		return err
	}
	_, err = file.Write(text)
	return errors.Join(err, file.Close())
}

// Folders makes the folders called names, each in the one before, the first in
// base, which must be there. It returns the path of the last one. One that is a
// link or a file is an error.
func Folders(base string, names ...string) (string, error) {
	for _, name := range names {
		base = filepath.Join(base, name)
		err := os.Mkdir(base, 0o755)
		if err == nil {
			continue
		}
		if !errors.Is(err, fs.ErrExist) {
			return "", err
		}
		if info, err := os.Lstat(base); err != nil || !info.IsDir() {
			return "", fmt.Errorf("%s is not a folder", base)
		}
	}
	return base, nil
}
