package shell

import (
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"tugline/internal/atomicfile"
)

// tracer reads what a script tells of its failures.
type tracer struct {
	script *bashScript
	marks  func(Stretch) // is told of the marks in the trace; nil: there are none

	events *atomicfile.Scratch // nil: there is none
	r, w   *os.File            // the pipe of the marks that come past the output; else nil
	goOn   *os.File            // a line has bash go on
	wait   *os.File            // from which it reads that
	ended  chan struct{}       // closed when all marks have been read; nil: there are none

	failures []failedCommand
	stages   map[int]int // by offset: the exit code with which a stage ended last
	at       int         // the offset of the exit that ended it; -1: none is known
	begun    Stretch     // the statement at the top that began last
}

// failedCommand is a command that failed.
type failedCommand struct {
	line, subshells, code int
	exit                  int    // of an exit, in place of line: its offset and 1; 0: it is none
	letters               string // as lettersOf
}

// newTracer returns a tracer. marks is told of the marks of a script of which the output
// goes past the stream; nil: they come with the output, or there are none.
func newTracer(script *bashScript, marks func(Stretch)) (*tracer, error) {
	t := &tracer{script: script, marks: marks, stages: map[int]int{}, at: -1}
	t.events, _ = atomicfile.NewScratch() // without it the place of a failure is less exact
	if !script.waits {
		return t, nil
	}
	var err error
	if t.r, t.w, err = os.Pipe(); err == nil {
		t.wait, t.goOn, err = os.Pipe()
	}
	if err != nil {
		t.close()
		return nil, fmt.Errorf("making a pipe for the statements: %w", err)
	}
	t.ended = make(chan struct{})
	go func() {
		defer close(t.ended)
		t.readMarks()
	}()
	return t, nil
}

// readMarks tells of each mark, and lets bash go on.
func (t *tracer) readMarks() {
	mark := make([]byte, markSize)
	for {
		if _, err := io.ReadFull(t.r, mark); err != nil {
			return
		}
		t.marks(Stretch{int(binary.BigEndian.Uint32(mark[tokenSize:])), int(binary.BigEndian.Uint32(mark[tokenSize+4:]))})
		t.goOn.WriteString("\n") // fails only once bash is gone
	}
}

// maxEvents is how much of what a script tells is looked at, in bytes: the last of it.
const maxEvents = 1 << 20

// readEvents takes what the script has told.
func (t *tracer) readEvents() {
	if t.events == nil {
		return
	}
	info, err := t.events.Stat()
	if err != nil || info.Size() == 0 {
		return
	}
	text := make([]byte, min(info.Size(), maxEvents))
	n, _ := t.events.ReadAt(text, info.Size()-int64(len(text))) // then less is known
	for _, part := range strings.Split(string(text[:n]), "\x06"+traceToken())[1:] {
		event, _, whole := strings.Cut(part, "\x06")
		if whole {
			t.event(event)
		}
	}
}

// maxFailures is how many failures are kept: those that did not end the script are there,
// too.
const maxFailures = 1000

// event takes one event of the trace.
func (t *tracer) event(text string) {
	if text == "" {
		return
	}
	words := strings.SplitN(text[1:], " ", 4)
	number := func(i int) int {
		if i >= len(words) {
			return -1
		}
		n, err := strconv.Atoi(words[i])
		if err != nil {
			return -1
		}
		return n
	}
	switch text[0] {
	case 'e':
		if len(t.failures) == maxFailures {
			t.failures = append(t.failures[:0], t.failures[maxFailures/2:]...)
		}
		t.failures = append(t.failures, failedCommand{line: number(0), subshells: number(1), code: number(2), letters: lettersOf(words[len(words)-1])})
	case 'b':
		t.begun = Stretch{number(0), number(1)}
	case 's':
		t.stages[number(0)] = number(1)
	case 'x':
		if number(1) == 0 {
			t.at = number(0)
		} else { // it ends a subshell
			t.failures = append(t.failures, failedCommand{exit: number(0) + 1, subshells: number(1), code: number(2)})
		}
	}
}

// close returns when all that was told has been read.
func (t *tracer) close() {
	t.started()
	if t.ended != nil && t.r.SetReadDeadline(time.Now().Add(soon)) == nil { // something in the background may hold it open
		<-t.ended
	}
	for _, file := range []*os.File{t.r, t.goOn} {
		if file != nil {
			file.Close() // nothing more is read
		}
	}
	t.readEvents()
	if t.events != nil {
		t.events.Close() // as above
	}
}

// started closes what bash has of its own once it runs.
func (t *tracer) started() {
	for _, file := range []*os.File{t.w, t.wait} {
		if file != nil {
			file.Close() // may be closed already
		}
	}
}

// failed returns the command that made the script end with a code.
func (t *tracer) failed(code int) (Stretch, bool) {
	if where, ok := t.script.beginningAt(t.at); ok {
		return where, true
	}
	if where, ok := t.lastFailure(code, func(f failedCommand, _ Stretch) bool { return f.subshells == 0 }); ok {
		return t.stage(code, where), true
	}
	if code == 1 {
		if where, ok := t.script.unset(t.begun); ok {
			return where, true
		}
	}
	return t.begun, t.begun.Length > 0
}

// lastFailure returns the last command that failed with a code, of some.
func (t *tracer) lastFailure(code int, is func(failedCommand, Stretch) bool) (Stretch, bool) {
	for _, f := range slices.Backward(t.failures) {
		where, ok := t.script.at(f.line, f.letters, t.begun)
		if f.exit > 0 {
			where, ok = t.script.beginningAt(f.exit - 1)
		}
		if ok && f.code == code && is(f, where) {
			return where, true
		}
	}
	return Stretch{}, false
}

// stage returns the command that failed with a code, if it stands in a pipeline of which
// another stage may have failed.
func (t *tracer) stage(code int, where Stretch) Stretch {
	var in *bashStage // the innermost pipeline around it
	for i := range t.script.stages {
		s := &t.script.stages[i]
		if s.pipeline.Offset <= where.Offset && where.Offset+where.Length <= s.pipeline.Offset+s.pipeline.Length && (in == nil || s.pipeline.Length < in.pipeline.Length) {
			in = s
		}
	}
	if in == nil {
		return where
	}
	var stages []bashStage // of the same chain, in order
	for _, s := range t.script.stages {
		if s.pipeline.Offset == in.pipeline.Offset {
			stages = append(stages, s)
		}
	}
	slices.SortFunc(stages, func(a, b bashStage) int { return a.Offset - b.Offset })
	failed := stages[len(stages)-1]
	for _, s := range slices.Backward(stages) {
		if ended, known := t.stages[s.Offset]; known && ended == code {
			failed = s
			break
		}
	}
	within := func(f failedCommand, where Stretch) bool {
		return f.subshells > 0 && failed.Offset <= where.Offset && where.Offset < failed.Offset+failed.Length
	}
	exits := func(f failedCommand, where Stretch) bool { return f.exit > 0 && within(f, where) } // bash says that the subshell around it failed, too
	if inner, ok := t.lastFailure(code, exits); ok {
		return inner
	}
	if inner, ok := t.lastFailure(code, within); ok {
		return inner
	}
	return failed.Stretch
}

// files returns what bash gets as descriptors 3 to 5.
func (t *tracer) files(out *stream) []*os.File {
	events, _ := nothing().(*os.File) // as the descriptor that is open in any case
	if t.events != nil {
		events = t.events.File
	}
	marks := events
	switch {
	case t.w != nil:
		return []*os.File{t.w, events, t.wait}
	case out.w != nil:
		marks = out.w
	}
	return []*os.File{marks, events}
}
