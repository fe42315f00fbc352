package shell

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"os"
	"sync"
	"time"
)

// stream carries what a script prints and, between it, marks for the
// statements that start. Both go through one pipe, so their order is the one
// in which they happened.
type stream struct {
	stdout, stderr *os.File // for the script
	statements     func(Stretch)
	output         func([]byte)

	r, w  *os.File      // the pipe; nil when the caller's own files are used
	buf   *[]byte       // from buffers
	kept  int           // bytes at the start of buf that may begin a mark
	over  bool          // the end was read
	ended chan struct{} // closed when the goroutine that reads has ended; nil: there is none
}

// A mark is a token that no output holds by chance, followed by the offset and
// the length of the statement.
const (
	tokenSize = 16
	markSize  = tokenSize + 8
)

// token is made once a process. It begins with a zero byte, which is rare in
// output and quick to look for.
var token = sync.OnceValue(func() []byte {
	t := make([]byte, tokenSize)
	rand.Read(t) // never fails
	t[0] = 0
	return t
})

// buffers are used again: most scripts print little.
var buffers = sync.Pool{New: func() any {
	buf := make([]byte, 64<<10) // as much as a pipe holds
	return &buf
}}

func openStream(cmd Command) (*stream, error) {
	s := &stream{stdout: cmd.Stdout, stderr: cmd.Stderr, statements: cmd.Statement, output: cmd.Output}
	if cmd.Stdout != nil {
		return s, nil
	}
	if s.output == nil {
		s.output = func([]byte) {}
	}
	r, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	s.r, s.w, s.stdout, s.stderr, s.buf = r, w, w, w, buffers.Get().(*[]byte)
	return s, nil
}

// statement tells that a statement starts now.
func (s *stream) statement(where Stretch) {
	switch {
	case s.statements == nil:
	case s.ended == nil: // nothing was printed before it
		s.statements(where)
	default:
		s.mark(where)
	}
}

// mark writes a mark, in one piece: a write this short is never torn (POSIX, PIPE_BUF).
func (s *stream) mark(where Stretch) {
	m := append(make([]byte, 0, markSize), token()...)
	m = binary.BigEndian.AppendUint32(m, uint32(where.Offset))
	m = binary.BigEndian.AppendUint32(m, uint32(where.Length))
	s.w.Write(m) // fails only once the reader is gone
}

// follow reads in a goroutine until the end, or until close.
func (s *stream) follow() {
	if s.r == nil || s.over {
		return
	}
	s.ended = make(chan struct{})
	go func() {
		defer close(s.ended)
		s.read()
	}()
}

// soon is how long a program is followed without a goroutine.
const soon = 50 * time.Millisecond

// followOne reads what the one program prints that was given the pipe. It
// returns at its end or soon, and then leaves the rest to a goroutine: waking
// one up costs a short program more than all else.
func (s *stream) followOne() {
	if s.r == nil {
		return
	}
	s.w.Close() // the program has its own: its end is the end of the pipe
	if s.r.SetReadDeadline(time.Now().Add(soon)) == nil {
		s.read()
		s.r.SetReadDeadline(time.Time{}) // worked before
	}
	s.follow()
}

// close returns when all that was printed has been handed over. A program
// that still holds the pipe open is not waited for.
func (s *stream) close() {
	if s.r == nil {
		return
	}
	s.w.Close() // may be closed already
	if s.r.SetReadDeadline(time.Unix(1, 0)) != nil {
		// Windows has no deadlines for pipes. There nobody holds it open: all
		// processes of the script are in its job object, and have ended.
		s.followToEnd()
	} else if s.ended != nil {
		<-s.ended
	}
	s.drain()
	s.r.Close() // nothing more is read
	buffers.Put(s.buf)
}

func (s *stream) followToEnd() {
	if s.ended == nil {
		s.follow()
	}
	if s.ended != nil {
		<-s.ended
	}
}

// read hands over what comes out of the pipe, up to its end or the deadline.
func (s *stream) read() {
	for !s.over {
		n, err := s.r.Read((*s.buf)[s.kept:])
		s.take(n)
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			return
		case err != nil: // every writer is gone
			s.over = true
		}
	}
	s.flush()
}

// drain hands over what is in the pipe now.
func (s *stream) drain() {
	for !s.over {
		n := readNow(s.r, (*s.buf)[s.kept:])
		if n <= 0 {
			s.over = true
		}
		s.take(max(0, n))
	}
	s.flush()
}

// take hands over the n bytes that were read behind those that are kept.
func (s *stream) take(n int) {
	s.kept = copy(*s.buf, s.split((*s.buf)[:s.kept+n]))
}

// flush hands over what looked like the beginning of a mark, and was none.
func (s *stream) flush() {
	if s.kept > 0 {
		s.output((*s.buf)[:s.kept])
		s.kept = 0
	}
}

// split hands over the output and the marks in text. It returns what may be
// the beginning of a mark.
func (s *stream) split(text []byte) (rest []byte) {
	for {
		at := bytes.Index(text, token())
		if at < 0 {
			at = len(text) - partialToken(text)
			if at > 0 {
				s.output(text[:at])
			}
			return text[at:]
		}
		if at > 0 {
			s.output(text[:at])
		}
		text = text[at:]
		if len(text) < markSize {
			return text
		}
		offset, length := binary.BigEndian.Uint32(text[tokenSize:]), binary.BigEndian.Uint32(text[tokenSize+4:])
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
