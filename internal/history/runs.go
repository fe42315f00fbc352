package history

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/gofrs/flock"

	"tugline/internal/atomicfile"
)

// Run is one invocation of Tugline, as it is remembered.
type Run struct {
	Version int            `json:"version"`
	ID      string         `json:"id"`
	Started time.Time      `json:"started"`
	Ms      int64          `json:"ms"`    // from start to end; so far, of one that did not end
	State   string         `json:"state"` // one of the states below
	Request []string       `json:"request"`
	Counts  map[string]int `json:"counts"` // of steps, by state
	Folder  string         `json:"folder"` // in which it was called, relative to the top folder of the project
	File    string         `json:"file"`   // the project file, if one was named; relative to Folder
	Resumes *string        `json:"resumes"`
	Steps   []RunStep      `json:"steps"`
	Groups  []RunGroup     `json:"groups"` // what steps waited for that has no commands
}

// RunGroup is a part of a run's graph that has no commands of its own: a group of
// tasks, or where the calls of one begin or end.
type RunGroup struct {
	Index int    `json:"index"`
	Name  string `json:"name"`
	Needs []int  `json:"needs"`
}

// Place is a place in a project file.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line"`   // from 1
	Column int    `json:"column"` // from 1
}

// The states of a run.
const (
	RunRan     = "ran"
	RunFailed  = "failed"
	RunStopped = "stopped" // interrupted, or killed
	RunRunning = "running"
)

// RunStep is what became of a step in a run.
type RunStep struct {
	Index    int       `json:"index"` // tells it apart in the run
	Needs    []int     `json:"needs"` // the indexes of the steps and groups that had to end before it
	Name     string    `json:"name"`  // the call
	Task     string    `json:"task"`
	CalledBy *string   `json:"called_by"` // of an after-call: whose, such as "finally of deploy"
	State    string    `json:"state"`
	Started  time.Time `json:"started"` // when it ended, if it was not started
	Ms       int64     `json:"ms"`
	ExitCode *int      `json:"exit_code"`
	Attempts int       `json:"attempts"`
	Slot     *int      `json:"slot"`    // in which it ran, from 1 to the number of jobs
	Service  bool      `json:"service"` // it is a service
	Place    *Place    `json:"place"`   // of the statement that failed
	Reason   string    `json:"reason"`
	Log      *string   `json:"log"` // the file with what it printed, below the folder of the run
	Sum      string    `json:"sum"` // of its fingerprint; empty: not known
}

// Key tells the steps of a run apart.
func (s *RunStep) Key() string { return StepKey(s.Name, s.CalledBy) }

// StepKey returns the key of a step: after-calls are made for each owner.
func StepKey(name string, calledBy *string) string {
	if calledBy == nil {
		return name
	}
	return name + "\x00" + *calledBy
}

// RunEvent is a line of events.ndjson.
type RunEvent struct {
	Time     time.Time `json:"time"`
	Kind     string    `json:"kind"`
	Run      string    `json:"run"`
	Step     *string   `json:"step"`
	Task     *string   `json:"task"`
	State    *string   `json:"state"`
	ExitCode *int      `json:"exit_code"`
	Ms       *int64    `json:"ms"`
	Reason   *string   `json:"reason"`
	Text     *string   `json:"text"`

	Result *RunStep  `json:"result,omitempty"` // of step.finished, in the record of a run
	Group  *RunGroup `json:"group,omitempty"`  // of group.finished, in the record of a run
	Begun  *Run      `json:"begun,omitempty"`  // of run.started, in the record of a run: what run.json says, should that be lost
}

// Recorder writes a run down as it goes on. It is used from one goroutine.
type Recorder struct {
	folder string
	run    Run
	lock   *flock.Flock
	events *os.File
	lines  []byte // not written yet
	logs   map[int]*os.File
}

// runVersion is the version of the format of run.json. Version 1 had no graph.
const runVersion = 2

// Record begins the record of a run. The ledger must have been made.
func (l *Ledger) Record(run Run) (*Recorder, error) {
	run.Version, run.State, run.Counts, run.Steps, run.Groups = runVersion, RunRunning, map[string]int{}, []RunStep{}, []RunGroup{}
	r := &Recorder{folder: l.RunFolder(run.ID), run: run, logs: map[int]*os.File{}}
	if _, err := atomicfile.Folders(l.folder, "runs", run.ID); err != nil {
		return nil, fmt.Errorf("making the record of the run: %w", err)
	}
	r.lock = lockFile(filepath.Join(r.folder, "lock"))
	if _, err := r.lock.TryLock(); err != nil {
		return nil, fmt.Errorf("making the record of the run: %w", err)
	}
	err := r.write()
	if err == nil {
		r.events, err = atomicfile.Open(filepath.Join(r.folder, "events.ndjson"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	}
	if err == nil {
		r.Event(RunEvent{Time: run.Started, Kind: "run.started", Run: run.ID, Begun: &r.run}) // what it holds can be written as JSON
		err = r.Flush()
	}
	if err != nil {
		r.lock.Unlock()
		return nil, fmt.Errorf("making the record of the run: %w", err)
	}
	return r, nil
}

// RunFolder returns the folder of a run.
func (l *Ledger) RunFolder(id string) string { return filepath.Join(l.folder, "runs", id) }

func (r *Recorder) write() error {
	text, err := json.MarshalIndent(r.run, "", "  ")
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(r.folder, "run.json"), append(text, '\n'))
}

// Event adds a line to the events, which the next Flush writes. The result of a
// step that finished is counted.
func (r *Recorder) Event(e RunEvent) error {
	if e.Result != nil {
		r.run.Steps = append(r.run.Steps, *e.Result)
	}
	if e.Group != nil {
		r.run.Groups = append(r.run.Groups, *e.Group)
	}
	line, err := json.Marshal(e)
	r.lines = append(append(r.lines, line...), '\n')
	return err
}

// Flush writes the events that were added.
func (r *Recorder) Flush() error {
	if len(r.lines) == 0 {
		return nil
	}
	_, err := r.events.Write(r.lines)
	r.lines = r.lines[:0]
	return err
}

// LogName returns the name of the log of a step, below the folder of the run.
func LogName(index int, step string) string {
	name := strings.Map(func(c rune) rune {
		if unicode.IsLetter(c) || unicode.IsDigit(c) || strings.ContainsRune("-_.", c) {
			return c
		}
		return '_'
	}, step)
	for len(name) > 60 {
		name = name[:len(name)-1]
	}
	return filepath.Join("logs", fmt.Sprintf("%04d-%s.log", index+1, strings.ToValidUTF8(name, "")))
}

// Log adds to the log of a step, which begins with the first text.
func (r *Recorder) Log(index int, step string, text []byte) error {
	file := r.logs[index]
	if file == nil {
		if len(r.logs) == 0 {
			if _, err := atomicfile.Folders(r.folder, "logs"); err != nil {
				return err
			}
		}
		var err error
		if file, err = atomicfile.Open(filepath.Join(r.folder, LogName(index, step)), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644); err != nil {
			return err
		}
		r.logs[index] = file
	}
	_, err := file.Write(text)
	return err
}

// OpenLog opens the log of a step that writes it itself, below the folder of a run
// that is being recorded.
func OpenLog(folder string, index int, step string) (*OwnLog, error) {
	_, err := os.Stat(folder)
	if err == nil {
		_, err = atomicfile.Folders(folder, "logs")
	}
	name := filepath.Join(folder, LogName(index, step))
	log := &OwnLog{}
	if err == nil {
		log.File, err = atomicfile.Open(name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	}
	if err != nil {
		return nil, fmt.Errorf("opening a log: %w", err)
	}
	log.lock = lockFile(name)
	log.lock.TryLock() // without it nobody can follow the log
	return log, nil
}

// OwnLog is the log of a step that writes it itself. It is locked while it is open.
type OwnLog struct {
	*os.File
	lock *flock.Flock
}

// Close closes the log.
func (l *OwnLog) Close() error { return errors.Join(l.lock.Unlock(), l.File.Close()) }

// IsOpen reports whether a step writes a log itself that is not ended.
func IsOpen(log string) bool {
	lock := lockFile(log)
	alone, err := lock.TryLock()
	if err == nil && alone {
		lock.Unlock() // it was only asked whether somebody holds it
	}
	return err == nil && !alone
}

// LogOf returns the name of the log of a step that writes it itself, or nil if there
// is none.
func (r *Recorder) LogOf(index int, step string) *string {
	if _, err := os.Stat(filepath.Join(r.folder, LogName(index, step))); err != nil {
		return nil
	}
	name := filepath.ToSlash(LogName(index, step))
	return &name
}

// EndLog ends the log of a step. It returns its name, or nil if there is none.
func (r *Recorder) EndLog(index int, step string) *string {
	file := r.logs[index]
	if file == nil {
		return nil
	}
	file.Close() // what was to be written, was
	r.logs[index] = nil
	delete(r.logs, index)
	name := filepath.ToSlash(LogName(index, step))
	return &name
}

// End writes how the run ended.
func (r *Recorder) End(state string, took time.Duration, counts map[string]int) error {
	r.run.State, r.run.Ms, r.run.Counts = state, took.Milliseconds(), counts
	err := errors.Join(r.write(), r.Flush(), r.events.Close())
	for _, file := range r.logs {
		file.Close()
	}
	return errors.Join(err, r.lock.Unlock())
}

// Runs returns the names of all runs, the newest first.
func (l *Ledger) Runs() []string {
	entries, _ := os.ReadDir(filepath.Join(l.folder, "runs")) // none, if it cannot be read
	var ids []string
	for _, e := range entries {
		if e.IsDir() {
			ids = append(ids, e.Name())
		}
	}
	slices.Sort(ids)
	slices.Reverse(ids)
	return ids
}

// ErrNoRun says that there is no such run.
var ErrNoRun = errors.New("there is no such run")

// ReadRun returns a run. One that did not end, and that no process is in, reads
// as stopped, with what its events tell of its steps. The error is [ErrNoRun]
// when there is none of that name, or nothing of it can be read.
func (l *Ledger) ReadRun(id string) (Run, error) {
	folder := l.RunFolder(id)
	if id != filepath.Base(id) || id == "." || id == ".." {
		return Run{}, ErrNoRun
	}
	text, err := os.ReadFile(filepath.Join(folder, "run.json"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Run{}, fmt.Errorf("reading run %s: %w", id, err)
	}
	var run Run
	good := func() bool {
		return (run.Version == runVersion || run.Version == 1) && run.ID == id && run.Counts != nil
	}
	if json.Unmarshal(text, &run) != nil || !good() {
		run = l.begun(id) // it was not written whole
	}
	if !good() {
		return Run{}, ErrNoRun
	}
	if run.State == RunRunning {
		l.soFar(&run)
	}
	for i := range run.Steps {
		if run.Version == 1 {
			run.Steps[i].Index = i
		}
		if run.Steps[i].Needs == nil {
			run.Steps[i].Needs = []int{}
		}
	}
	return run, nil
}

// begun returns a run as the first of its events tells of it.
func (l *Ledger) begun(id string) Run {
	file, err := os.Open(filepath.Join(l.RunFolder(id), "events.ndjson"))
	if err != nil {
		return Run{}
	}
	defer file.Close()
	line, _ := bufio.NewReader(file).ReadBytes('\n')
	var e RunEvent
	if json.Unmarshal(line, &e) != nil || e.Begun == nil {
		return Run{}
	}
	return *e.Begun
}

// soFar fills in what the events tell of a run that did not end.
func (l *Ledger) soFar(run *Run) {
	folder := l.RunFolder(run.ID)
	lock := lockFile(filepath.Join(folder, "lock"))
	if alone, err := lock.TryLock(); err == nil && alone {
		run.State = RunStopped
		lock.Unlock() // it was only asked whether somebody holds it
	}
	file, err := os.Open(filepath.Join(folder, "events.ndjson"))
	if err != nil {
		return
	}
	defer file.Close()
	open := map[string]RunEvent{}
	var order []string
	last := run.Started
	lines := bufio.NewReader(file)
	for {
		line, err := lines.ReadBytes('\n')
		if err != nil {
			break // a line without an end was not written whole
		}
		var e RunEvent
		if json.Unmarshal(bytes.TrimSpace(line), &e) != nil {
			continue
		}
		last = e.Time
		switch {
		case e.Result != nil:
			run.Steps = append(run.Steps, *e.Result)
			delete(open, e.Result.Name)
		case e.Group != nil:
			run.Groups = append(run.Groups, *e.Group)
		case e.Kind == "step.started" && e.Step != nil:
			open[*e.Step] = e
			order = append(order, *e.Step)
		}
	}
	for _, name := range order {
		e, isOpen := open[name]
		if !isOpen {
			continue
		}
		s := RunStep{Name: name, State: run.State, Started: e.Time, Ms: last.Sub(e.Time).Milliseconds(), Attempts: 1}
		if log := l.FindLog(run.ID, name); log != "" {
			log = "logs/" + filepath.Base(log)
			s.Log = &log
		}
		if e.Task != nil {
			s.Task = *e.Task
		}
		if run.State == RunStopped {
			s.Reason = "Tugline was killed"
		}
		run.Steps = append(run.Steps, s)
	}
	run.Ms = last.Sub(run.Started).Milliseconds()
	for _, s := range run.Steps {
		run.Counts[s.State]++
	}
}

// RoundName returns the name of a run that is a round of a watch, from the name of a
// run and that of the first round.
func RoundName(run, first string) string {
	if watch := watchOf(first); watch != "" {
		return run + watch
	}
	return run + "-w" + first[max(0, len(first)-5):]
}

// watchOf returns the part of a run's name that tells the watch; empty: it is no round.
func watchOf(id string) string {
	if at := strings.LastIndex(id, "-w"); at >= 0 {
		return id[at:]
	}
	return ""
}

// IsRound reports whether a run is a round of a watch.
func (r *Run) IsRound() bool { return watchOf(r.ID) != "" }

// PruneRuns removes the oldest runs but so many, never one that is still running. All
// rounds of a watch count once.
func (l *Ledger) PruneRuns(keep int) error {
	counted, watches := 0, map[string]bool{}
	for _, id := range l.Runs() {
		watch := watchOf(id)
		if watch == "" || !watches[watch] {
			counted++
		}
		watches[watch] = true
		if counted <= keep {
			continue
		}
		folder := l.RunFolder(id)
		lock := lockFile(filepath.Join(folder, "lock"))
		alone, err := lock.TryLock()
		if err != nil || !alone {
			continue
		}
		lock.Unlock()
		if err := os.RemoveAll(folder); err != nil {
			return fmt.Errorf("removing an old run: %w", err)
		}
	}
	return nil
}

// IsRunning reports whether a step of a run runs now.
func (l *Ledger) IsRunning(id, step string) bool {
	run, err := l.ReadRun(id)
	return err == nil && slices.ContainsFunc(run.Steps, func(s RunStep) bool { return s.Name == step && s.State == RunRunning })
}

// FindLog returns the path of the log of a step that runs now; empty if it has
// printed nothing yet.
func (l *Ledger) FindLog(id, step string) string {
	folder := filepath.Join(l.RunFolder(id), "logs")
	entries, _ := os.ReadDir(folder) // none, if it is not there
	ending := strings.TrimPrefix(filepath.Base(LogName(0, step)), "0001")
	for _, e := range entries {
		if strings.TrimLeft(e.Name(), "0123456789") == ending {
			return filepath.Join(folder, e.Name())
		}
	}
	return ""
}
