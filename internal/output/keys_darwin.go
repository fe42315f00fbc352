package output

import "golang.org/x/sys/unix"

// The calls that read and set the modes of a terminal.
const (
	getModes = unix.TIOCGETA
	setModes = unix.TIOCSETA
)
