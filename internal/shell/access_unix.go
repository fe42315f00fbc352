//go:build unix

package shell

import (
	"io/fs"

	"golang.org/x/sys/unix"
)

// mayAccess reports whether the user may read, write or execute a file: how is r, w or x.
func mayAccess(path string, how byte, _ fs.FileInfo) bool {
	mode := map[byte]uint32{'r': unix.R_OK, 'w': unix.W_OK, 'x': unix.X_OK}[how]
	return unix.Faccessat(unix.AT_FDCWD, path, mode, unix.AT_EACCESS) == nil
}
