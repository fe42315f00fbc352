//go:build unix

package shell

import (
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// lockScript marks the temporary file of a script as used, while it is open.
func lockScript(file *os.File) {
	unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB) // best effort: nobody else knows it
}

// isLeft reports whether nobody uses the temporary file of a script. One that was
// made this moment may not be locked yet.
func isLeft(file *os.File) bool {
	info, err := file.Stat()
	return err == nil && time.Since(info.ModTime()) > time.Second && unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil
}
