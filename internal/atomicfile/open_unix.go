//go:build unix

package atomicfile

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// NoFollow is the flag of [os.OpenFile] with which a link is not followed.
const NoFollow = syscall.O_NOFOLLOW

func openNoFollow(path string, flag int, perm fs.FileMode) (*os.File, error) {
	return os.OpenFile(path, flag|NoFollow, perm)
}

// isLink reports whether err says that a link stands at path. BSD systems give
// EMLINK (open(2)).
func isLink(_ string, err error) bool {
	return errors.Is(err, syscall.ELOOP) || errors.Is(err, syscall.EMLINK)
}
