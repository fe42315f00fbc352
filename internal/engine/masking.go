package engine

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"syscall"

	"tugline/internal/secret"
	"tugline/internal/shell"
)

// execMasked runs cmd, which prints past the sink, with a pipe before each of
// its streams in which the secrets are masked. also is given the same; it may
// be nil.
func (l *loop) execMasked(ctx context.Context, cmd shell.Command, also func([]byte)) error {
	var pipes []*maskedPipe
	if also != nil { // each stream has a goroutine of its own
		var mu sync.Mutex
		passOn := also
		also = func(p []byte) {
			mu.Lock()
			defer mu.Unlock()
			passOn(p)
		}
	}
	together := sameFile(cmd.Stdout, cmd.Stderr) // then one pipe keeps their order
	for _, stream := range []**os.File{&cmd.Stdout, &cmd.Stderr} {
		if together && len(pipes) > 0 {
			*stream = pipes[0].w
			break
		}
		v, err := newMaskedPipe(*stream, l.cfg.Secrets, also)
		if err != nil {
			return fmt.Errorf("making a pipe for the output: %w", err)
		}
		defer v.close()
		*stream = v.w
		pipes = append(pipes, v)
	}
	if told := cmd.Statement; told != nil {
		cmd.Statement = func(where shell.Stretch) {
			for _, v := range pipes {
				v.sync()
			}
			told(where)
		}
	}
	err := l.cfg.Exec(ctx, cmd)
	for _, v := range pipes {
		v.close()
		if v.failed != nil && !errors.Is(v.failed, syscall.EPIPE) {
			return fmt.Errorf("showing the output: %w", v.failed)
		}
	}
	return err
}

// sameFile reports whether two streams end in one file.
func sameFile(a, b *os.File) bool {
	infoA, errA := a.Stat()
	infoB, errB := b.Stat()
	return errA == nil && errB == nil && os.SameFile(infoA, infoB)
}

// maskedPipe copies what is printed into a pipe to a file, with the secrets masked.
type maskedPipe struct {
	r, w  *os.File
	mark  []byte        // no output holds it by chance
	seen  chan struct{} // is sent to when the mark has come through
	ended chan struct{}

	failed error     // of writing
	closed sync.Once // by close
}

// write passes on what was printed. When nobody reads that any more, the program
// is to see it.
func (v *maskedPipe) write(to *os.File, p []byte) {
	if v.failed != nil {
		return
	}
	if _, v.failed = to.Write(p); errors.Is(v.failed, syscall.EPIPE) {
		v.r.Close()
	}
}

func newMaskedPipe(to *os.File, mask *secret.Mask, also func([]byte)) (*maskedPipe, error) {
	r, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	v := &maskedPipe{r: r, w: w, mark: make([]byte, 16), seen: make(chan struct{}), ended: make(chan struct{})}
	rand.Read(v.mark) // never fails
	go func() {
		defer close(v.ended)
		v.copy(mask.Writer(func(p []byte) {
			v.write(to, p)
			if also != nil {
				also(p)
			}
		}))
	}()
	return v, nil
}

// sync returns when all that was printed before has been copied, but for what
// may be the beginning of a secret.
func (v *maskedPipe) sync() {
	if _, err := v.w.Write(v.mark); err == nil { // in one piece: it is shorter than PIPE_BUF
		select {
		case <-v.seen:
		case <-v.ended:
		}
	}
}

// close copies what was printed so far. What still holds the pipe open prints
// into the void.
func (v *maskedPipe) close() {
	v.closed.Do(func() {
		v.sync()
		v.w.Close()
		v.r.Close()
		<-v.ended
	})
}

func (v *maskedPipe) copy(to *secret.Writer) {
	defer to.Flush()
	buf := make([]byte, 32<<10)
	kept := 0 // at the start of buf, the beginning of a mark perhaps
	for {
		n, err := v.r.Read(buf[kept:])
		text := buf[:kept+n]
		for {
			at := bytes.Index(text, v.mark)
			if at < 0 {
				break
			}
			to.Write(text[:at])
			v.seen <- struct{}{}
			text = text[at+len(v.mark):]
		}
		whole := len(text) - v.partial(text)
		to.Write(text[:whole])
		kept = copy(buf, text[whole:])
		if err != nil {
			if !errors.Is(err, io.EOF) {
				return
			}
			to.Write(buf[:kept])
			return
		}
	}
}

// partial returns how many bytes at the end of text may begin a mark.
func (v *maskedPipe) partial(text []byte) int {
	for n := min(len(v.mark)-1, len(text)); n > 0; n-- {
		if bytes.HasSuffix(text, v.mark[:n]) {
			return n
		}
	}
	return 0
}
