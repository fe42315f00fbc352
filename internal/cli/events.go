package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"

	"tugline/internal/engine"
	"tugline/internal/history"
)

// eventWriter writes what happens to a file, one JSON object a line. A nil one writes
// nothing.
type eventWriter struct {
	file *os.File
	run  string // the name of the run
}

// openEvents opens the file of --events; nil for none.
func (a *app) openEvents(name string) (*eventWriter, error) {
	if name == "" {
		return nil, nil
	}
	file, err := os.Create(a.absolute(name))
	if err != nil {
		var path *os.PathError
		if errors.As(err, &path) {
			err = path.Err
		}
		return nil, &usageError{msg: fmt.Sprintf("the file %q of --events cannot be written: %v", name, err)}
	}
	return &eventWriter{file: file}, nil
}

// eventKinds are those that are written. The others are of interest to Tugline alone.
var eventKinds = map[engine.Kind]bool{
	engine.RunStarted: true, engine.StepStarted: true, engine.StepOutput: true, engine.StepRetry: true, engine.StepHeld: true, engine.StepFinished: true, engine.RunFinished: true,
	engine.ServiceReady: true, engine.ServiceRestarting: true, engine.ServiceExited: true,
}

// name says what the run is called that follows.
func (w *eventWriter) name(run string) {
	if w != nil {
		w.run = run
	}
}

// event writes an event. That nobody reads any more is no error.
func (w *eventWriter) event(e engine.Event) error {
	if w == nil || !eventKinds[e.Kind] {
		return nil
	}
	return w.write(engine.EventLine(w.run, e))
}

// changed writes which files changed before a round of a watch, one a line of its text.
func (w *eventWriter) changed(paths []string) error {
	if w == nil || len(paths) == 0 {
		return nil
	}
	text := strings.Join(paths, "\n")
	return w.write(history.RunEvent{Time: time.Now().UTC(), Kind: "watch.change", Run: w.run, Text: &text})
}

func (w *eventWriter) write(line history.RunEvent) error {
	text, err := json.Marshal(line)
	if err == nil {
		_, err = w.file.Write(append(text, '\n'))
	}
	if errors.Is(err, syscall.EPIPE) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("writing the events: %w", err)
	}
	return nil
}

// close closes the file.
func (w *eventWriter) close() {
	if w != nil {
		w.file.Close() // every line was written as it came
	}
}
