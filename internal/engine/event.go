package engine

import (
	"time"
	"tugline/internal/cache"

	"tugline/internal/fingerprint"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// State is what became of a step.
type State string

// The states of a step, the only words for them in any output.
const (
	Ran       State = "ran"
	Unchanged State = "unchanged" // nothing it depends on has changed since its last good run
	Restored  State = "restored"  // it ran in this state before: what it made then was put back
	Skipped   State = "skipped"   // its conditions do not hold; what needs it goes on
	Failed    State = "failed"
	Stopped   State = "stopped" // interrupted, or not started because of an interrupt or a failure elsewhere
	Up        State = "ready"   // of a service that goes on when the run has ended
	Blocked   State = "blocked" // something it needs failed
)

// States are all states, in the order in which they are counted.
var States = []State{Ran, Restored, Unchanged, Skipped, Failed, Blocked, Stopped}

// Kind tells what an event is about.
type Kind string

// The kinds of events.
const (
	RunStarted   Kind = "run.started"
	StepStarted  Kind = "step.started"
	StepActs     Kind = "step.acts"    // it is not unchanged: its commands run now, or its outputs are restored
	StepCommand  Kind = "step.command" // a statement of the step starts
	StepOutput   Kind = "step.output"
	StepWaiting  Kind = "step.waiting" // it waits, for what Text says
	StepHeld     Kind = "step.held"    // it is not started yet: it waits until what Text says
	StepsAdded   Kind = "steps.added"  // steps are new in the plan: Added
	StepRetry    Kind = "step.retry"   // an attempt failed, and another one follows; Text tells of both
	StepFinished Kind = "step.finished"
	// Of services; Text tells why.
	ServiceReady      Kind = "service.ready"
	ServiceRestarting Kind = "service.restarting"
	ServiceExited     Kind = "service.exited"
	RunNote           Kind = "run.note"    // what there is to tell of the whole run: Text
	RunRemoved        Kind = "run.removed" // outputs were removed; Text tells which, and why
	RunFinished       Kind = "run.finished"
)

// Step is what is told of a step of the plan. It does not change.
type Step struct {
	Index    int    // in the plan
	Name     string // the call, as it is shown
	Task     string // the name of its task
	CalledBy string // of an after-call: whose, such as "finally of deploy"; else empty
	Works    bool   // it has commands
	Stays    bool   // it is a service
	Terminal bool   // it owns the terminal
	Looped   bool   // it is an instance of a task with each
	Last     bool   // the call ends with it
}

// StepOf returns what is told of a step of a plan.
func StepOf(s *plan.Step) *Step {
	return &Step{
		Index: s.Index, Name: s.Name, Task: s.Task.Name, CalledBy: s.CalledBy(),
		Works: s.Works(), Stays: s.Stays(), Terminal: s.Task.Terminal, Looped: len(s.Task.Looped()) > 0, Last: s.Last == nil,
	}
}

// StepsOf returns what is told of all steps of a plan.
func StepsOf(p *plan.Plan) []*Step {
	steps := make([]*Step, len(p.Steps))
	for i, s := range p.Steps {
		steps[i] = StepOf(s)
	}
	return steps
}

// Event is something that happened in a run.
type Event struct {
	Time   time.Time
	Kind   Kind
	Step   *Step  // nil for events of the whole run
	Text   []byte // of StepOutput: what was printed; of StepCommand: the statement; of StepWaiting: for what; of StepHeld: until what
	Result Result // of StepFinished and ServiceExited; of RunFinished, its State and Took are those of the run
	Added  []*Step
	Needs  []int // of StepFinished: the indexes of the steps that had to end before it

	step    *plan.Step    // that Step tells of
	service *running      // to which it happened; may be nil
	came    *Result       // of a service that is ready, or cannot be, which nobody is told of; else nil
	inLoop  func()        // is done in the loop, of which nobody is told; else nil
	answers plan.Answers  // of a step whose values were asked for, which nobody is told of; else nil
	unlock  func()        // gives back the locks of a step that has finished; may be nil
	handled chan struct{} // if not nil, closed when the sink has been told
}

// Result is what became of one step.
type Result struct {
	Step       *Step
	State      State
	Took       time.Duration        // 0 for a step that was not started
	Saved      time.Duration        // what it took when it last ran, if it need not run now
	Attempts   int                  // of its commands; 0 for a step that was not started
	Reason     string               // why it was not run, or how it failed; may be empty
	Failure    *Failure             // of a failed step
	Started    time.Time            // zero for a step that was not started
	Reasons    []fingerprint.Reason // why it ran, or not; may be empty
	Sum        string               // of the fingerprint with which it ended; empty: not known
	DoneBefore bool                 // it is unchanged because it was done in the run that is gone on with
	Noted      bool                 // Reason tells of something that the user should know in any case
	Slot       int                  // in which it ran, from 1 to the number of jobs; 0: in none
	Whole      bool                 // it stands for a call as a whole, which was skipped or failed with it
	moved      bool                 // of a service: it was started
	step       *plan.Step           // that Step tells of
	emptyReads []plan.Glob          // which of its patterns matched nothing
	looked     bool                 // emptyReads is known
	Uncalled   bool                 // it is skipped because its case did not arise: nothing called it
}

// IsShown reports whether r is worth telling of: it is that of a step with
// commands, or one that was skipped or failed as a whole.
func (r Result) IsShown() bool {
	return !r.Uncalled && (r.Step.Works || r.Failure != nil || r.State == Skipped && r.Whole)
}

// Failure tells where and how a step failed.
type Failure struct {
	Span project.Span // of the statement, in the project file
	Code int          // the exit code; 0 when no command gave one
	Msg  string
	Hint string // how to mend it; may be empty
	// Internal says that no command failed, but Tugline could not run it.
	Internal bool
}

// Sink is told of every event, in one order, by one goroutine. The run waits
// for it, so it should be quick.
type Sink func(Event)

// Summary is what became of a run.
type Summary struct {
	Results []Result      // one for each step, in the order of the plan
	Wall    time.Duration // from start to end
	Busy    time.Duration // of all steps together
	Saved   time.Duration // of all steps that need not run
	// EmptyReads are the patterns of reads that matched nothing.
	EmptyReads []cache.EmptyRead
}

// Count returns how many steps with work of their own ended in state.
func (s Summary) Count(state State) int {
	n := 0
	for _, r := range s.Results {
		if r.State == state && r.IsShown() && (!r.Step.Stays || state == Failed) {
			n++
		}
	}
	return n
}

// Services returns how many services were started.
func (s Summary) Services() int {
	n := 0
	for _, r := range s.Results {
		if r.Step.Stays && r.moved {
			n++
		}
	}
	return n
}

// Times returns what the steps took that ran and ended well, by name.
func (s Summary) Times() map[string]time.Duration {
	took := map[string]time.Duration{}
	for _, r := range s.Results {
		if r.State == Ran && r.Step.Works && !r.Step.Stays {
			took[r.Step.Name] = r.Took
		}
	}
	return took
}

// Failures returns the results of the failed steps, in the order of the plan,
// but for those that failed because of others.
func (s Summary) Failures() []Result {
	var failed []Result
	for _, r := range s.Results {
		if r.State == Failed && r.Failure != nil {
			failed = append(failed, r)
		}
	}
	return failed
}
