//go:build unix

package store

import (
	"errors"
	"io/fs"

	"golang.org/x/sys/unix"
)

// writeSmall writes a file that is not there into an open folder. name is one
// name, no path. What package os adds to a file costs more than a small one.
func writeSmall(into target, name string, mode fs.FileMode, text []byte) error {
	fail := func(op string, err error) error { return &fs.PathError{Op: op, Path: name, Err: err} }
	var fd int
	err := again(func() (err error) {
		flags := unix.O_WRONLY | unix.O_CREAT | unix.O_EXCL | unix.O_NOFOLLOW | unix.O_CLOEXEC
		fd, err = unix.Openat(int(into.dir.Fd()), name, flags, uint32(mode|0o200))
		return err
	})
	if err != nil {
		return fail("open", err)
	}
	for len(text) > 0 && err == nil {
		var n int
		err = again(func() (err error) {
			n, err = unix.Write(fd, text)
			return err
		})
		text = text[max(0, n):]
	}
	if err != nil {
		unix.Close(fd)
		return fail("write", err)
	}
	var st unix.Stat_t
	if err = again(func() error { return unix.Fstat(fd, &st) }); err == nil && fs.FileMode(st.Mode)&0o777 != mode {
		err = again(func() error { return unix.Fchmod(fd, uint32(mode)) }) // the user's mask took something away
	}
	if err = errors.Join(err, unix.Close(fd)); err != nil {
		return fail("close", err)
	}
	return nil
}

// again makes a call until no signal breaks into it.
func again(call func() error) error {
	for {
		if err := call(); err != unix.EINTR {
			return err
		}
	}
}
