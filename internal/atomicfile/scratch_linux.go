package atomicfile

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// nameless returns a new file without a name; nil where the file system of the
// folder has none.
func nameless(folder string) *os.File {
	fd, err := unix.Open(folder, unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return nil
	}
	return os.NewFile(uintptr(fd), filepath.Join(folder, "tugline-scratch"))
}
