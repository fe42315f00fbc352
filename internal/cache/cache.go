// Package cache decides what a step needs, and keeps, restores and removes its outputs,
// one step at a time.
package cache

import (
	"sync"
	"time"

	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/store"
)

// Action is what a run would do with a step.
type Action string

// The actions of a plan.
const (
	ToRun     Action = "run"       // certain
	Maybe     Action = "maybe"     // only what an earlier step makes decides
	UpToDate  Action = "unchanged" // nothing it depends on has changed
	ToRestore Action = "restore"   // it ran in this state before, and its outputs are kept
	Skip      Action = "skip"      // it is not to be run
	ToStart   Action = "start"     // of a service
	ToReuse   Action = "reuse"     // of a service that runs already
)

// Decision is what is to be done with a step, and why.
type Decision struct {
	Action  Action
	Reasons []fingerprint.Reason

	Finished bool          // it was finished in the run that is resumed
	Saved    time.Duration // what its last good run took; 0: not known
	// EmptyReads are the patterns of reads that match nothing.
	EmptyReads []plan.Glob

	head    history.Head            // of its record, when it was decided
	now     fingerprint.Fingerprint // without files
	outputs files.Digest            // the sum of the outputs, as they are now
	reads   []files.Found           // what it reads, unless it is to be left
	listed  []string                // what its depfile listed, when that is known
	moved   bool                    // a step that it waits for has done something in this run
	depfile files.Look              // how that looked before it ran
	begun   int64                   // a file with a later time of change changed after it had begun, see [files.Look.Modified]
	present []files.Found           // what stood in the places of its outputs before it ran or was restored
}

// Cache is what is known from earlier runs and how it is to be used. It may be
// used from many goroutines.
type Cache struct {
	Top    string // the top folder of the project
	Files  *files.Tree
	Ledger *history.Ledger
	Store  *store.Store // nil: nothing is kept and nothing restored
	World  fingerprint.World
	Run    string // the name of the run
	Nested bool   // a task of another Tugline called this one

	ForceNeeds bool
	Force      map[*project.Task]bool // run them whatever was
	AsIs       map[*project.Task]bool // take them as unchanged
	// Resumed tells whether a step was finished in the run that is resumed, and whether
	// with a fingerprint of that sum. nil: no run is resumed.
	Resumed func(s *plan.Step, sum string) (run string, finished, same bool)
	// Writes reports whether a task may write the file at a path from the top folder.
	Writes func(path string) bool
	// Expanded is told that a plan has steps that it had not. nil: nobody is.
	Expanded func(p *plan.Plan)
	// Running reports whether a service runs in the background with a fingerprint of a
	// sum. nil: none does.
	Running func(s *plan.Step, sum string) bool
	listed  sync.Map // by the ID of a step: what its depfile listed in this run

	// Round is the round of a watch. nil: there is none, or it is the first one.
	Round *Round
}

func reason(kind, text string) []fingerprint.Reason {
	return []fingerprint.Reason{{Kind: kind, Text: text}}
}

// Declares reports whether a step says what it reads or writes.
func Declares(s *plan.Step) bool {
	return len(s.Task.Reads)+len(s.Task.Writes) > 0 || s.Task.Depfile.Value != ""
}

// Round is what is known of a round of a watch, which follows on another one.
type Round struct {
	// Ended returns the sum of the fingerprint with which a step ended well when it
	// last ran or was looked at in this watch.
	Ended func(s *plan.Step) (sum string, well bool)
	// Touched reports whether a changed file is one of those that globs mean.
	Touched func(globs []plan.Glob) bool
}
