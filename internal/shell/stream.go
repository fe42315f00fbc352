package shell

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"os"
	"sync"
)

// stream carries what a script prints and, between it, marks for the
// statements that start. Both go through one pipe, so their order is the one
// in which they happened.
type stream struct {
	stdout, stderr *os.File // for the script
	pipe           *os.File // its writing end; nil when the caller's own files are used
	statements     func(Stretch)
	ended          chan struct{} // closed when the reader has seen the end
}

// A mark is a token that no output holds by chance, followed by the offset and
// the length of the statement. A length of endOfOutput says that all was read.
const (
	tokenSize   = 16
	markSize    = tokenSize + 8
	endOfOutput = 1<<32 - 1
)

// token is made once a process. It begins with a zero byte, which is rare in
// output and quick to look for.
var token = sync.OnceValue(func() []byte {
	t := make([]byte, tokenSize)
	rand.Read(t) // never fails
	t[0] = 0
	return t
})

func openStream(cmd Command) (*stream, error) {
	if cmd.Stdout != nil {
		return &stream{stdout: cmd.Stdout, stderr: cmd.Stderr, statements: cmd.Statement}, nil
	}
	r, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	s := &stream{stdout: w, stderr: w, pipe: w, statements: cmd.Statement, ended: make(chan struct{})}
	go func() {
		defer close(s.ended)
		defer r.Close()
		s.read(r, cmd.Output)
	}()
	return s, nil
}

// statement tells that a statement starts now.
func (s *stream) statement(where Stretch) {
	switch {
	case s.statements == nil:
	case s.pipe == nil:
		s.statements(where)
	default:
		s.mark(uint32(where.Offset), uint32(where.Length))
	}
}

// close returns when all that was printed has been handed over. A program
// that still holds the pipe open is not waited for.
func (s *stream) close() {
	if s.pipe == nil {
		return
	}
	s.mark(0, endOfOutput)
	s.pipe.Close()
	<-s.ended
}

// mark writes a mark, in one piece: a write this short is never torn (POSIX, PIPE_BUF).
func (s *stream) mark(offset, length uint32) {
	m := append(make([]byte, 0, markSize), token()...)
	m = binary.BigEndian.AppendUint32(m, offset)
	m = binary.BigEndian.AppendUint32(m, length)
	s.pipe.Write(m) // fails only once the reader is gone
}

// buffers are used again: most scripts print little.
var buffers = sync.Pool{New: func() any {
	buf := make([]byte, 64<<10) // as much as a pipe holds
	return &buf
}}

// read hands over what comes out of the pipe, up to the mark of its end.
func (s *stream) read(r *os.File, output func([]byte)) {
	if output == nil {
		output = func([]byte) {}
	}
	pooled := buffers.Get().(*[]byte)
	defer buffers.Put(pooled)
	buf := *pooled
	kept := 0 // bytes at the start of buf that may be the start of a mark
	for {
		n, err := r.Read(buf[kept:])
		rest, end := s.split(buf[:kept+n], output)
		if end {
			return
		}
		if err != nil { // every writer is gone
			if len(rest) > 0 {
				output(rest)
			}
			return
		}
		kept = copy(buf, rest)
	}
}

// split hands over the output and the marks in text. It returns what may be
// the beginning of a mark, and whether the end was marked.
func (s *stream) split(text []byte, output func([]byte)) (rest []byte, end bool) {
	for {
		at := bytes.Index(text, token())
		if at < 0 {
			at = len(text) - partialToken(text)
			if at > 0 {
				output(text[:at])
			}
			return text[at:], false
		}
		if at > 0 {
			output(text[:at])
		}
		text = text[at:]
		if len(text) < markSize {
			return text, false
		}
		offset, length := binary.BigEndian.Uint32(text[tokenSize:]), binary.BigEndian.Uint32(text[tokenSize+4:])
		if length == endOfOutput {
			return nil, true
		}
		s.statements(Stretch{int(offset), int(length)})
		text = text[markSize:]
	}
}

// partialToken returns how many bytes at the end of text may begin a token.
func partialToken(text []byte) int {
	tail := text[max(0, len(text)-tokenSize+1):]
	for {
		at := bytes.IndexByte(tail, 0)
		if at < 0 {
			return 0
		}
		tail = tail[at:]
		if bytes.HasPrefix(token(), tail) {
			return len(tail)
		}
		tail = tail[1:]
	}
}
