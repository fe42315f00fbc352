package engine

import (
	"errors"
	"os"
	"path/filepath"
	"slices"

	"tugline/internal/history"
)

// Recording writes the events of a run down.
type Recording struct {
	To     *history.Recorder
	Folder string // of the run
	Top    string // of the project: paths are told from there
	Run    string // its name

	pending []Event // not written yet
	size    int     // of what they printed, in bytes
	failed  error   // the first error; nothing more is written then
}

// maxPending is how much output may wait to be written down, in bytes.
const maxPending = 256 << 10

// Event notes e, to be written down with the next Flush. It is a [Sink].
func (r *Recording) Event(e Event) {
	if r.failed != nil || e.Kind == RunStarted || e.Kind == StepsAdded || e.Kind == StepCommand || e.Kind == StepActs || e.Kind == StepOutput && e.Step.Stays {
		return
	}
	r.pending = append(r.pending, e)
	if r.size += len(e.Text); r.size > maxPending {
		r.Flush()
	}
}

// Flush writes down what was noted: when there is time for it, since the steps
// wait for the sink.
func (r *Recording) Flush() {
	for _, e := range r.pending {
		if r.failed == nil {
			r.write(e)
		}
	}
	clear(r.pending)
	r.pending, r.size = r.pending[:0], 0
	if r.failed == nil {
		r.failed = r.To.Flush()
	}
}

func (r *Recording) write(e Event) {
	switch e.Kind {
	case StepOutput:
		r.failed = r.To.Log(e.Step.Index, e.Step.Name, e.Text)
		return
	case StepFinished:
		if e.Result.Uncalled {
			return
		}
	}
	line := EventLine(r.Run, e)
	switch {
	case e.Kind == StepFinished && e.Result.IsShown():
		step := r.step(e)
		line.Result = &step
	case e.Kind == StepFinished:
		line = history.RunEvent{Time: line.Time, Kind: "group.finished", Run: r.Run, Step: line.Step, Group: &history.RunGroup{Index: e.Step.Index, Name: e.Step.Name, Needs: needs(e)}}
	}
	r.failed = r.To.Event(line)
}

// Err returns the error that ended the writing, if any.
func (r *Recording) Err() error { return r.failed }

// End writes how the run ended. err is the error of [Run].
func (r *Recording) End(s Summary, err error) error {
	r.Flush()
	counts := map[string]int{}
	for _, state := range States {
		if n := s.Count(state); n > 0 {
			counts[string(state)] = n
		}
	}
	state := history.RunRan
	switch {
	case err != nil:
		state = history.RunStopped
	case len(s.Failures()) > 0:
		state = history.RunFailed
	}
	return errors.Join(r.failed, r.To.End(state, s.Wall, counts))
}

// Log returns the path of what a step printed, by its index and its name; empty if it
// printed nothing.
func (r *Recording) Log(index int, name string) string {
	r.Flush()
	path := r.Folder + string(os.PathSeparator) + history.LogName(index, name)
	if _, err := os.Stat(path); err != nil {
		return ""
	}
	return path
}

func (r *Recording) step(e Event) history.RunStep {
	s, result := e.Step, e.Result
	out := history.RunStep{
		Index: s.Index, Needs: needs(e), Service: s.Stays,
		Name: s.Name, Task: s.Task, State: string(result.State), Started: result.Started.UTC(), Ms: result.Took.Milliseconds(),
		ExitCode: exitCode(result), Attempts: result.Attempts, Reason: result.Reason, Sum: result.Sum,
		Log: r.To.EndLog(s.Index, s.Name),
	}
	if result.Started.IsZero() {
		out.Started = e.Time.UTC()
	}
	if s.Stays {
		if out.Log = r.To.LogOf(s.Index, s.Name); out.Log == nil {
			out.Attempts = 0 // it was started in an earlier round
		}
	}
	if s.CalledBy != "" {
		out.CalledBy = &s.CalledBy
	}
	if result.Slot > 0 {
		out.Slot = &result.Slot
	}
	if f := result.Failure; f != nil && !f.Span.IsZero() {
		line, column := f.Span.Position()
		file := f.Span.Source.Name
		if below, err := filepath.Rel(r.Top, f.Span.Source.Path); err == nil {
			file = below
		}
		out.Place = &history.Place{File: filepath.ToSlash(file), Line: line, Column: column}
	}
	return out
}

// needs returns the indexes of the steps that had to end before that of an event, sorted.
func needs(e Event) []int {
	list := append([]int{}, e.Needs...)
	slices.Sort(list)
	return slices.Compact(list)
}

// exitCode returns the exit code of a step's commands; nil if there is none.
func exitCode(r Result) *int {
	code := 0
	switch {
	case r.State == Ran && r.Step != nil && r.Step.Works:
	case r.Failure != nil && r.Failure.Code != 0:
		code = r.Failure.Code
	default:
		return nil
	}
	return &code
}

// EventLine returns e as a line of events. run is the name of the run.
func EventLine(run string, e Event) history.RunEvent {
	line := history.RunEvent{Time: e.Time.UTC(), Kind: string(e.Kind), Run: run}
	if e.Step != nil {
		line.Step, line.Task = &e.Step.Name, &e.Step.Task
	}
	if len(e.Text) > 0 {
		text := string(e.Text)
		line.Text = &text
	}
	if e.Result.State != "" {
		state, ms := string(e.Result.State), e.Result.Took.Milliseconds()
		line.State, line.Ms, line.ExitCode = &state, &ms, exitCode(e.Result)
		if e.Result.Reason != "" {
			line.Reason = &e.Result.Reason
		}
	}
	return line
}
