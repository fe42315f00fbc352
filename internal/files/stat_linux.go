//go:build linux && (amd64 || arm64)

package files

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// statter asks for the state of names in an open folder, one after the other. Its
// memory is used again: new memory for each name would cost more than asking.
type statter struct {
	fd   int
	st   unix.Stat_t
	name []byte
}

// stat fills in st for a name, without following a link.
func (a *statter) stat(name string) error {
	a.name = append(append(a.name[:0], name...), 0)
	_, _, errno := unix.Syscall6(fstatat, uintptr(a.fd), uintptr(unsafe.Pointer(&a.name[0])),
		uintptr(unsafe.Pointer(&a.st)), unix.AT_SYMLINK_NOFOLLOW, 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}

// openAt opens a name in an open folder. It needs no memory for that.
func openAt(folder int, name string, flags int) (fd int, err error) {
	var buf [256]byte // no name is longer
	if len(name) >= len(buf) {
		return -1, unix.ENAMETOOLONG
	}
	copy(buf[:], name)
	n, _, errno := unix.Syscall6(unix.SYS_OPENAT, uintptr(folder), uintptr(unsafe.Pointer(&buf[0])), uintptr(flags), 0, 0, 0)
	if errno != 0 {
		return -1, errno
	}
	return int(n), nil
}

// statOf fills in st for an open file.
func statOf(fd int, st *unix.Stat_t) error { return unix.Fstat(fd, st) }

func closeFile(fd int) { unix.Close(fd) } // it was only read
