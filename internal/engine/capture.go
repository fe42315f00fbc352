package engine

import "bytes"

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
