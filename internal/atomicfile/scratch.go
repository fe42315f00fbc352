package atomicfile

import (
	"errors"
	"os"
)

// Scratch is an open file for a while. Where the system can, it has no name, so a
// killed program leaves nothing behind.
type Scratch struct {
	*os.File
	named bool // it is to be removed
}

// NewScratch returns a new scratch file in the system's folder for such files.
func NewScratch() (*Scratch, error) {
	if file := nameless(os.TempDir()); file != nil {
		return &Scratch{file, false}, nil
	}
	file, err := os.CreateTemp("", "tugline-scratch-*")
	if err != nil {
		return nil, err
	}
	return &Scratch{file, os.Remove(file.Name()) != nil}, nil // Windows removes no open file
}

// Close gives up the file and its content.
func (s *Scratch) Close() error {
	err := s.File.Close()
	if s.named {
		err = errors.Join(err, os.Remove(s.Name()))
	}
	return err
}
