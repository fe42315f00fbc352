//go:build unix && !(linux && (amd64 || arm64))

package files

import "golang.org/x/sys/unix"

// asker asks for the names of an open folder, one after the other.
type statter struct {
	fd int
	st unix.Stat_t
}

// stat fills in st for a name, without following a link.
func (a *statter) stat(name string) error {
	return unix.Fstatat(a.fd, name, &a.st, unix.AT_SYMLINK_NOFOLLOW)
}

func openAt(folder int, name string, flags int) (fd int, err error) {
	return unix.Openat(folder, name, flags, 0)
}

func statOf(fd int, st *unix.Stat_t) error { return unix.Fstat(fd, st) }

func closeFile(fd int) { unix.Close(fd) } // it was only read
