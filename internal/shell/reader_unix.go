//go:build unix

package shell

import (
	"os"

	"golang.org/x/sys/unix"
)

// readerGone reports whether file is a pipe that nobody reads any more.
func readerGone(file *os.File) bool {
	conn, err := file.SyscallConn() // not Fd, which would make the file block
	if err != nil {
		return false
	}
	gone := false
	conn.Control(func(fd uintptr) { // fails only when the file is closed
		fds := []unix.PollFd{{Fd: int32(fd)}}
		n, err := unix.Poll(fds, 0)
		gone = err == nil && n == 1 && fds[0].Revents&unix.POLLERR != 0
	})
	return gone
}

// readNow reads what is in the pipe r, without waiting. It returns 0 or less
// when there is nothing.
func readNow(r *os.File, buf []byte) int {
	conn, err := r.SyscallConn()
	if err != nil {
		return 0
	}
	n := 0
	conn.Control(func(fd uintptr) { // fails only when the file is closed
		for {
			var err error
			if n, err = unix.Read(int(fd), buf); err != unix.EINTR {
				return
			}
		}
	})
	return n
}
