package shell

import (
	"errors"
	"fmt"
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
}

// next returns the command that is to take the place of the next one, if
// something went wrong since the last call: the end of the shell.
func (t *troubles) next() []string {
	switch {
	case t.failed.Swap(false):
		return []string{"exit", "1"}
	case t.gone.Swap(false):
		return []string{"exit", "0"} // as a program ended by a closed pipe
	}
	return nil
}

// watchedFile is a file that a script's built-in commands write to. It notices
// writes that fail and, on stderr, the messages of failed expansions.
type watchedFile struct {
	*os.File
	troubles *troubles
	stderr   *os.File // where to tell of a failed write
	messages bool     // the shell's own messages go here
}

// expansionErrors are how the messages of failed expansions end.
var expansionErrors = []string{
	"division by zero\n", "exponent less than 0\n", "unsupported\n", "negative array index\n", "readonly variable\n",
}

// Write passes text on.
func (w *watchedFile) Write(text []byte) (int, error) { return w.WriteString(string(text)) }

// WriteString passes text on.
func (w *watchedFile) WriteString(text string) (int, error) {
	if name, ok := strings.CutSuffix(text, ": unbound variable\n"); ok && w.messages {
		w.troubles.unset.Store(&name)
	}
	if w.messages && len(text) < 80 {
		for _, msg := range expansionErrors {
			if strings.HasSuffix(text, msg) {
				w.troubles.failed.Store(true)
			}
		}
	}
	n, err := w.File.WriteString(text)
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
