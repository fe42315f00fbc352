package shell

import (
	"os"
	"time"
)

// lockScript does nothing: on Windows a lock would keep the interpreter out.
func lockScript(*os.File) {}

// isLeft reports whether nobody uses the temporary file of a script.
func isLeft(file *os.File) bool {
	info, err := file.Stat()
	return err == nil && time.Since(info.ModTime()) > 24*time.Hour
}
