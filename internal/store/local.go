package store

import (
	"bytes"
	"io"
	"os"
)

// finder looks for texts in a stream.
type finder struct {
	texts [][]byte
	kept  []byte // the end of the last piece: a text may begin there
	found bool
}

func newFinder(texts []string) *finder {
	f := &finder{}
	for _, text := range texts {
		if len(text) > 1 {
			f.texts = append(f.texts, []byte(text))
		}
	}
	return f
}

// Write looks at the next piece. It never fails.
func (f *finder) Write(p []byte) (int, error) {
	if f.found || len(f.texts) == 0 {
		return len(p), nil
	}
	f.look(p)
	longest := 0
	for _, text := range f.texts {
		longest = max(longest, len(text))
	}
	if f.kept != nil && !f.found { // across the two pieces
		f.look(append(f.kept, p[:min(len(p), longest-1)]...))
	}
	if len(p) >= longest-1 {
		f.kept = append(f.kept[:0], p[len(p)-longest+1:]...)
	} else {
		f.kept = append(f.kept, p...)
		f.kept = f.kept[max(0, len(f.kept)-longest+1):]
	}
	return len(p), nil
}

func (f *finder) look(p []byte) {
	for _, text := range f.texts {
		f.found = f.found || bytes.Contains(p, text)
	}
}

// whole looks for the texts in all of one file.
func (f *finder) whole(p []byte) {
	f.end()
	f.look(p)
}

// end ends the stream: what comes next is another one.
func (f *finder) end() { f.kept = nil }

// file looks for the texts in a file of which nothing else is wanted.
func (f *finder) file(root *os.Root, name string) error {
	if f.found || len(f.texts) == 0 {
		return nil
	}
	file, err := root.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	f.end()
	defer f.end()
	_, err = io.Copy(f, file)
	return err
}
