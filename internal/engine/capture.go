package engine

import (
	"bytes"
	"errors"

	"tugline/internal/project"
	"tugline/internal/shell"
)

// printed gathers what a step prints, to be kept with its outputs.
type printed struct {
	text bytes.Buffer
	over bool // it is too much to be kept
}

// maxPrinted is how much of what a step prints is kept, in bytes.
const maxPrinted = 4 << 20

func (p *printed) add(text []byte) {
	if p.over = p.over || p.text.Len()+len(text) > maxPrinted; !p.over {
		p.text.Write(text)
	}
}

// bytes returns what was printed; nil if it was too much.
func (p *printed) bytes() []byte {
	if p.over {
		return nil
	}
	return append([]byte{}, p.text.Bytes()...)
}

// lastPrinted is the end of what an interpreter prints, in which it may tell the line of the
// script that failed.
type lastPrinted struct{ text []byte }

// maxLastPrinted is how much of it is looked at, in bytes.
const maxLastPrinted = 8 << 10

func (p *lastPrinted) add(text []byte) {
	p.text = append(p.text, text...)
	if extra := len(p.text) - maxLastPrinted; extra > maxLastPrinted {
		p.text = append(p.text[:0], p.text[extra:]...)
	}
}

// place makes the place of a failure of a script the line that was told.
func (p *lastPrinted) place(script *project.Text, err error) {
	var exit *shell.ExitError
	if len(p.text) == 0 || !errors.As(err, &exit) || !exit.Whole && exit.Code != 2 {
		return
	}
	if where, found := shell.ToldLine(script.Value, p.text); found {
		exit.Where, exit.Whole = where, false
	}
}
