package atomicfile

import (
	"errors"
	"io/fs"
	"os"
)

// NoFollow is no flag on Windows, where links are rare and need a privilege.
const NoFollow = 0

// errLink says that a link stands in the place of a file.
var errLink = errors.New("it is a symbolic link")

func openNoFollow(path string, flag int, perm fs.FileMode) (*os.File, error) {
	if info, err := os.Lstat(path); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return nil, &fs.PathError{Op: "open", Path: path, Err: errLink}
	}
	return os.OpenFile(path, flag, perm)
}

func isLink(_ string, err error) bool { return errors.Is(err, errLink) }
