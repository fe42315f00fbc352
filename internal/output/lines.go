package output

import (
	"bytes"
	"encoding/binary"
	"io"
	"slices"

	"tugline/internal/atomicfile"
)

// lineBuffer cuts a stream into lines. A line longer than maxLine is cut in two.
type lineBuffer struct {
	partial []byte
}

// maxLine bounds what is kept of a line that does not end, in bytes.
const maxLine = 1 << 20

// add hands every line that text completes to emit, without its line end.
// The line is valid until emit returns.
func (b *lineBuffer) add(text []byte, emit func(line []byte)) {
	for {
		end := bytes.IndexByte(text, '\n')
		if end < 0 {
			break
		}
		line := text[:end]
		if len(b.partial) > 0 {
			b.partial = append(b.partial, line...)
			line = b.partial
		}
		emit(bytes.TrimSuffix(line, []byte("\r")))
		b.partial = b.partial[:0]
		text = text[end+1:]
	}
	b.partial = append(b.partial, text...)
	if len(b.partial) >= maxLine {
		b.end(emit)
	}
}

// end hands over the last line if it was not ended.
func (b *lineBuffer) end(emit func(line []byte)) {
	if len(b.partial) > 0 {
		emit(b.partial)
		b.partial = b.partial[:0]
	}
}

// tail keeps the last lines of a stream.
type tail struct {
	kept  [tailLines][]byte // a ring
	count int               // of all lines
}

// What a tail keeps: so many lines, and so many bytes of each.
const (
	tailLines = 12
	tailBytes = 400
)

func (t *tail) add(line []byte) {
	place := &t.kept[t.count%tailLines]
	*place = append((*place)[:0], line[:min(len(line), tailBytes)]...)
	t.count++
}

// lines returns the lines that were kept, and whether there were more.
func (t *tail) lines() (lines [][]byte, more bool) {
	for i := max(0, t.count-tailLines); i < t.count; i++ {
		lines = append(lines, t.kept[i%tailLines])
	}
	return lines, t.count > tailLines
}

// spool keeps text until it is asked for: the first part in memory, the rest
// in a temporary file. The zero spool is empty.
type spool struct {
	size   int64
	memory bytes.Buffer
	file   *atomicfile.Scratch // nil: not needed yet
}

// spoolMemory is how much a spool keeps in memory, in bytes.
const spoolMemory = 1 << 20

func (s *spool) write(text []byte) error {
	s.size += int64(len(text))
	if s.file == nil && s.memory.Len()+len(text) <= spoolMemory {
		s.memory.Write(text)
		return nil
	}
	if s.file == nil {
		file, err := atomicfile.NewScratch()
		if err != nil {
			return err
		}
		s.file = file
	}
	_, err := s.file.Write(text)
	return err
}

// copyTo writes all that was kept to w.
func (s *spool) copyTo(w io.Writer) error {
	if s.size == 0 {
		return nil
	}
	if _, err := w.Write(s.memory.Bytes()); err != nil || s.file == nil {
		return err
	}
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err := io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{s.file}, make([]byte, 64<<10))
	return err
}

// close gives up what was kept.
func (s *spool) close() error {
	s.memory = bytes.Buffer{}
	if s.file == nil {
		return nil
	}
	err := s.file.Close()
	s.file = nil
	return err
}

// indenter writes every line with four blanks before it.
type indenter struct {
	w       io.Writer
	midLine bool
}

func (i *indenter) Write(text []byte) (int, error) {
	var out bytes.Buffer
	for line := range bytes.Lines(text) {
		if !i.midLine && len(line) > 1 {
			out.WriteString("    ")
		}
		out.Write(line)
		i.midLine = line[len(line)-1] != '\n'
	}
	if _, err := i.w.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(text), nil
}

// clean returns line without what would disturb the lines around it: all that
// a carriage return overwrites, and control sequences. Colours stay if color
// is set, and are then ended with the line.
func clean(line []byte, color bool) []byte {
	if !hasControl(line) {
		return line
	}
	if at := bytes.LastIndexByte(line, '\r'); at >= 0 {
		line = line[at+1:]
	}
	out := make([]byte, 0, len(line)+4)
	colored := false
	for len(line) > 0 {
		if line[0] == '\x1b' {
			n := escapeLength(line)
			if color && line[n-1] == 'm' {
				out = append(out, line[:n]...)
				colored = true
			}
			line = line[n:]
			continue
		}
		if !isControl(line[0]) {
			out = append(out, line[0])
		}
		line = line[1:]
	}
	if colored {
		out = append(out, "\x1b[0m"...)
	}
	return out
}

// hasControl is called for every line of output, so it looks at eight bytes at
// once: which of them are less than n is told by the highest bits of x-n·ones
// (Warren, Hacker's Delight, 6-1).
func hasControl(line []byte) bool {
	const ones, highest = 0x0101010101010101, 0x8080808080808080
	for ; len(line) >= 8; line = line[8:] {
		x := binary.LittleEndian.Uint64(line)
		deleted := x ^ 0x7f*ones // zero where there is a DEL
		if (x-' '*ones)&^x&highest|(deleted-ones)&^deleted&highest != 0 && slices.ContainsFunc(line[:8], isControl) {
			return true
		}
	}
	return slices.ContainsFunc(line, isControl)
}

func isControl(b byte) bool { return b < ' ' && b != '\t' || b == 0x7f }

// escapeLength returns the length of the escape sequence at the start of line:
// a control sequence (ECMA-48, 5.4), a string up to its end (5.6), or two bytes.
func escapeLength(line []byte) int {
	if len(line) < 2 {
		return len(line)
	}
	switch line[1] {
	case '[':
		for i := 2; i < len(line); i++ {
			if line[i] >= 0x40 && line[i] <= 0x7e {
				return i + 1
			}
		}
		return len(line)
	case ']', 'P', 'X', '^', '_':
		for i := 2; i < len(line); i++ {
			if line[i] == '\a' {
				return i + 1
			}
			if line[i] == '\x1b' && i+1 < len(line) && line[i+1] == '\\' {
				return i + 2
			}
		}
		return len(line)
	}
	return 2
}
