package store

import (
	"bytes"
	"io/fs"
)

// writeSmall writes a file that is not there into an open folder.
func writeSmall(into target, name string, mode fs.FileMode, text []byte) error {
	return writeFile(into.root, name, mode, bytes.NewReader(text))
}
