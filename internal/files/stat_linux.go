//go:build linux && (amd64 || arm64)

package files

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// asker asks for the names of an open folder, one after the other. What it needs
// for that is used again: new memory for each name would cost more than asking.
type statter struct {
	fd   int
	st   unix.Stat_t
	name []byte
}

// stat fills in st for a name, without following a link.
//
// The system is called without telling Go's scheduler: on local files the
// answer takes half a microsecond, and looking after 100,000 such calls took it
// longer than they did.
func (a *statter) stat(name string) error {
	a.name = append(append(a.name[:0], name...), 0)
	_, _, errno := unix.RawSyscall6(fstatat, uintptr(a.fd), uintptr(unsafe.Pointer(&a.name[0])),
		uintptr(unsafe.Pointer(&a.st)), unix.AT_SYMLINK_NOFOLLOW, 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}

// openAt, statOf and closeFile are the calls of the system, made likewise:
// for what is there and local they take no longer than asking. Reading, which
// may wait for a disk, is told to the scheduler.
func openAt(folder int, name string, flags int) (fd int, err error) {
	var buf [256]byte // no name is longer
	if len(name) >= len(buf) {
		return -1, unix.ENAMETOOLONG
	}
	copy(buf[:], name)
	n, _, errno := unix.RawSyscall6(unix.SYS_OPENAT, uintptr(folder), uintptr(unsafe.Pointer(&buf[0])), uintptr(flags), 0, 0, 0)
	if errno != 0 {
		return -1, errno
	}
	return int(n), nil
}

func statOf(fd int, st *unix.Stat_t) error {
	_, _, errno := unix.RawSyscall(unix.SYS_FSTAT, uintptr(fd), uintptr(unsafe.Pointer(st)), 0)
	if errno != 0 {
		return errno
	}
	return nil
}

func closeFile(fd int) { unix.RawSyscall(unix.SYS_CLOSE, uintptr(fd), 0, 0) } // it was only read
