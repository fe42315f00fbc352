package shell

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"
)

// stream carries what a script prints and, between it, marks for the
// statements that start. Both go through one pipe, so their order is the one
// in which they happened. While the built-in shell prints little and has not
// started a program there is no pipe: what it prints is handed over at once.
type stream struct {
	cmd        *Command
	statements func(Stretch)
	output     func([]byte)

	mu     sync.Mutex // held while there is no pipe and something is handed over; protects the next two fields until then
	direct int        // pieces that were handed over at once
	r, w   *os.File   // the pipe; nil when there is none

	buf   *[]byte       // from buffers
	kept  int           // bytes at the start of buf that may begin a mark
	over  bool          // the end was read
	ended chan struct{} // closed when the goroutine that reads has ended; nil: there is none
}

// fewPieces is how many pieces of output are handed over at once. A script
// that prints more is better off with a pipe, which gathers them.
const fewPieces = 16

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

func newStream(cmd *Command) *stream {
	s := &stream{cmd: cmd, statements: cmd.Statement, output: cmd.Output}
	if s.output == nil {
		s.output = func([]byte) {}
	}
	return s
}

// files returns what the one program of a script is given to print to; it is
// followed by [stream.followOne].
func (s *stream) files() (stdout, stderr *os.File, err error) {
	if s.cmd.Stdout != nil {
		return s.cmd.Stdout, s.cmd.Stderr, nil
	}
	err = s.pipe()
	return s.w, s.w, err
}

// pipe makes the pipe.
func (s *stream) pipe() error {
	r, w, err := os.Pipe()
	if err != nil {
		return fmt.Errorf("making a pipe for the output: %w", err)
	}
	s.r, s.w, s.buf = r, w, buffers.Get().(*[]byte)
	return nil
}

// file returns what a program of the built-in shell is given for stdout or
// stderr.
func (s *stream) file(ofStderr bool) (*os.File, error) {
	switch {
	case s.cmd.Stdout == nil:
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.followedLocked()
	case ofStderr:
		return s.cmd.Stderr, nil
	}
	return s.cmd.Stdout, nil
}

// followedLocked returns the writing end of the pipe, from which a goroutine reads.
func (s *stream) followedLocked() (*os.File, error) {
	if s.w == nil {
		if err := s.pipe(); err != nil {
			return nil, err
		}
		s.follow()
	}
	return s.w, nil
}

// print is for what the built-in shell itself prints.
func (s *stream) print(text string, onStderr bool) (int, error) {
	if s.cmd.Stdout == nil && s.handOver(text) {
		return len(text), nil
	}
	file, err := s.file(onStderr)
	if err != nil {
		return 0, err
	}
	return file.WriteString(text)
}

// handOver hands text over at once, unless that is for the pipe to do.
func (s *stream) handOver(text string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.w != nil || s.direct == fewPieces {
		return false
	}
	s.direct++
	s.output([]byte(text))
	return true
}

// statement tells that a statement starts now.
func (s *stream) statement(where Stretch) {
	if s.statements == nil {
		return
	}
	s.mu.Lock()
	piped := s.ended != nil
	if !piped { // all that was printed before it was handed over
		s.statements(where)
	}
	s.mu.Unlock()
	if piped {
		s.mark(where)
	}
}

// marksAside returns what is told of marks that come another way than the output, which
// goes past the stream: first was told already. nil: they come with the output.
func (s *stream) marksAside(first Stretch) func(Stretch) {
	if s.cmd.Stdout == nil {
		return nil
	}
	return func(where Stretch) {
		if s.statements != nil && where.Offset != first.Offset {
			s.statements(where)
		}
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
	s.mu.Lock() // for what was noted under it; nothing runs any more
	defer s.mu.Unlock()
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
		if s.statements != nil {
			s.statements(Stretch{int(offset), int(length)})
		}
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
