package shell

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
)

// troubles are what went wrong in a script that the library passes over.
type troubles struct {
	failed atomic.Bool            // an expansion or a write
	gone   atomic.Bool            // nobody reads the output any more
	unset  atomic.Pointer[string] // the variable that an expansion lacked last
	why    atomic.Pointer[string] // the message of the expansion that failed last
}

// expansion notes that an expansion failed.
func (t *troubles) expansion(why string) {
	t.why.Store(&why)
	t.failed.Store(true)
}

// take returns the code with which the shell must end if something went wrong
// since the last call.
func (t *troubles) take() (code int, ends bool) {
	switch {
	case t.failed.Swap(false):
		return 1, true
	case t.gone.Swap(false):
		return 0, true // as a program ended by a closed pipe
	}
	return 0, false
}

// ownStream is stdout or stderr of a script.
type ownStream struct {
	*stream
	isStderr bool
}

func (o ownStream) Write(text []byte) (int, error)       { return o.print(string(text), o.isStderr) }
func (o ownStream) WriteString(text string) (int, error) { return o.print(text, o.isStderr) }

// watched is what a script's built-in commands write to. It notices writes
// that fail and, on stderr, the messages of failed expansions.
type watched struct {
	to       io.StringWriter
	troubles *troubles
	stderr   io.Writer // where to tell of a failed write
	messages bool      // the shell's own messages go here
}

// watchedFile is a watched file, opened for a redirection.
type watchedFile struct {
	*os.File
	watched *watched
}

func (w watchedFile) Write(text []byte) (int, error)       { return w.watched.Write(text) }
func (w watchedFile) WriteString(text string) (int, error) { return w.watched.WriteString(text) }

// expansionErrors are how the messages of failed expansions end.
var expansionErrors = []string{
	"division by zero\n", "exponent less than 0\n", "unsupported\n", "negative array index\n", "readonly variable\n",
}

// Write passes text on.
func (w *watched) Write(text []byte) (int, error) { return w.WriteString(string(text)) }

// WriteString passes text on.
func (w *watched) WriteString(text string) (int, error) {
	if name, ok := strings.CutSuffix(text, ": unbound variable\n"); ok && w.messages {
		w.troubles.unset.Store(&name)
	}
	if w.messages && len(text) < 80 {
		for _, msg := range expansionErrors {
			if strings.HasSuffix(text, msg) {
				w.troubles.expansion(strings.TrimSuffix(text, "\n"))
			}
		}
	}
	n, err := w.to.WriteString(text)
	switch {
	case errors.Is(err, syscall.EPIPE):
		w.troubles.gone.Store(true)
	case err != nil:
		if !w.troubles.failed.Swap(true) {
			var path *fs.PathError
			if errors.As(err, &path) {
				err = path.Err
			}
			fmt.Fprintf(w.stderr, "cannot write: %v\n", err) // a second failure has nowhere to go
		}
	}
	return n, err
}
