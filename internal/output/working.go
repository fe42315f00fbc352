package output

import (
	"fmt"
	"io"
	"sync"
	"time"
)

// workingAfter is how long something may take before it is told that it is being done.
const workingAfter = 300 * time.Millisecond

// Working tells on a terminal what is being done before a run starts, in a line that goes
// when it is done. It may be used from many goroutines.
type Working struct {
	Out   io.Writer
	Style Style

	mu    sync.Mutex // protects the fields below
	under []*string  // what is being done, the first told
	shown bool
}

// Do notes that something is being done until the returned function is called.
func (w *Working) Do(what string) (done func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.under = append(w.under, &what)
	later := time.AfterFunc(workingAfter, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.draw()
	})
	return func() {
		later.Stop()
		w.mu.Lock()
		defer w.mu.Unlock()
		for i, other := range w.under {
			if other == &what {
				w.under = append(w.under[:i], w.under[i+1:]...)
				break
			}
		}
		if w.shown {
			w.draw()
		}
	}
}

// draw shows what is being done in place of what was shown. mu is held.
func (w *Working) draw() {
	text := ""
	if w.shown = len(w.under) > 0; w.shown {
		text = w.Style.faint(printable(*w.under[0]) + " …")
	}
	fmt.Fprintf(w.Out, "\r\x1b[K%s", text) // erase the line (ECMA-48); a terminal that is gone is noticed by what follows
}
