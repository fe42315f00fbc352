// Package plan orders the steps that a request for tasks comes to. It touches
// nothing outside: no file, no clock, no process.
package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"tugline/internal/project"
	"tugline/internal/secret"
)

// Request is what a user asks for.
type Request struct {
	Calls []project.Call     // in the order they are to run
	Env   []string           // the caller's environment, as NAME=value
	Set   []string           // stronger than what the file sets, as NAME=value
	Files []project.Settings // env files of the user's, weaker than Env; the later ones are stronger
	From  string             // absolute: the folder the user stands in
	Base  *project.File      // in which the names of Calls are looked up; nil: the top file
	// EnvFiles returns the env files that a project file names, the later ones
	// stronger; they are weaker than Files. It is asked once for each file of
	// which a task is planned. nil: there are none.
	EnvFiles func(f *project.File) ([]project.Settings, error)
	Secrets  *secret.Mask // is told all secret values; may be nil
	Jobs     int          // steps at once, shown to the tasks as TUGLINE_JOBS
	Changed  []string     // the files that changed before a round of a watch, shown to the tasks as TUGLINE_CHANGED
	// Compute returns the value of a computed variable of the project: env is
	// the environment in which its script runs, file the path of one that is a
	// file's text. It is asked once for each variable that a step refers to.
	// nil: none is computed, and all are empty.
	Compute func(v *project.Var, env []string, file string) (string, error)
	// List returns the values of a list that only the world knows. It is asked
	// while planning, and again by [Plan.Expand]. nil: such lists are empty.
	List func(Listed) ([]string, error)
	// IsFolder reports whether a path, from the top folder with slashes, is a folder, or
	// was made one by a run. nil: none is.
	IsFolder func(path string) bool
	// Listed returns the files that the depfile of a step listed after its last good run, by
	// the ID of the step; paths as in [Glob]. nil: none is known.
	Listed func(id string) []string
	// NoCompute leaves computed variables, and lists that a script prints, unknown.
	NoCompute bool
	Run       string // what the run is called, shown to the tasks as TUGLINE_RUN
	OS        string // as Go names it
	Arch      string // as Go names it
}

// Plan is an ordered set of steps. Every step stands behind all it waits for.
type Plan struct {
	Project *project.Project
	Steps   []*Step

	requested []*Step // the last steps of the calls of the request

	written  *writers               // what all tasks may write; nil: not looked for yet
	builder  *builder               // to add the steps that are not known yet
	expanded map[*project.Task]bool // the tasks whose values were made in the run
}

// Step is one call, filled in and ready to run.
type Step struct {
	Index    int    // in Plan.Steps
	Name     string // the call, as it is shown
	Task     *project.Task
	Needs    []*Step        // must end well first
	After    []*Step        // must have ended well first because they were asked for first
	AfterEnd []*Step        // must have ended first, however
	Folder   string         // absolute or relative to the project's folder
	Run      []project.Text // its scripts on this system, in order
	Rest     []string       // the words behind --, "$@" of the scripts
	Skip     string         // why it is not to be run; empty: it is
	When     []Glob         // of which something must be there when its needs have ended; else it is skipped
	Reads    []Glob         // those that its depfile listed after its last good run among them
	Writes   []Glob
	Depfile  string // absolute: where its program lists what it read; empty: nowhere
	// WatchAlso are the files with whose change it runs in a watch, whatever it reads.
	WatchAlso []Glob
	// FileNeeds are the needs that come from files: what another step writes and
	// this one reads. They are among Needs.
	FileNeeds []FileNeed
	// Uncomputed are the variables it refers to whose values are not known, since
	// the request is not to compute any.
	Uncomputed []string

	Role     Role
	Previous *Step   // of an Outcome or an End: the step before it that stands for the same call
	Called   []*Step // of an Outcome: what it called; of an End: its after-calls
	Last     *Step   // of a Body, a Start or an Outcome: the last step of the same call; nil: it is the last
	// Triggers tell when it is wanted: when one of them comes true. None: in any case.
	Triggers     []*Trigger
	CalledFor    *Trigger      // the after-call for which it is made alone; nil: it is made for the whole run
	FailureScope *FailureScope // nil: the whole run
	Locks        []string      // sorted: held from its start to the end of Whole
	Limited      bool          // it is one of the instances of its task, of which Task.AtOnce may run at once
	Cleanup      []*Step       // of the first step of an instance: the ends of the finally calls that are made for it alone
	Loop         *Loop         // of an Outcome whose instances are not known yet; else nil

	ignored   []Glob  // files that never count
	call      string  // its name, with nothing masked
	wanted    bool    // in any case
	alsoWants []*Step // are wanted when it is, and so are the first ownNeeds of Needs
	ownNeeds  int
	scope     *scope
	args      []project.Var // the values of its arguments
	computed  []string      // the computed variables it refers to, as NAME=value
	outside   []string      // the required variables it refers to
	neededBy  *Step         // the last step that took this one as a need
}

// Environ returns the whole environment of s, as NAME=value. Of two with the
// same name the later one counts. The slice is the caller's. It is not to be
// called from several goroutines at once.
func (s *Step) Environ() []string {
	return append(append(s.scope.environ(), s.computed...), "TUGLINE_TASK="+s.Name, "TUGLINE_FAILED_TASK=", "TUGLINE_EXIT_CODE=", "TUGLINE_FAILED_LOG=", "TUGLINE_FAILED_CALLS=")
}

// Expand fills in a text with the variables of s. It is not to be called from
// several goroutines at once.
func (s *Step) Expand(t project.Text) (string, error) { return t.Expand(s.scope.value) }

// ID returns the name under which what is known of s is kept: a digest of the
// call, which may hold any character and a secret.
func (s *Step) ID() string { return idOf(s.call) }

func idOf(call string) string {
	sum := sha256.Sum256([]byte(call))
	return hex.EncodeToString(sum[:16])
}

// Writers returns the steps with commands that write what s reads, as far as they
// are known: instances, for a task that has some.
func (s *Step) Writers() []*Step {
	var all []*Step
	var add func(w *Step)
	add = func(w *Step) {
		switch {
		case w.Works():
			all = append(all, w)
		case w.Role == End:
			add(w.Previous)
		case w.Role == Outcome && w.Previous == nil: // of a task with instances
			for _, entry := range w.Called {
				add(entry)
			}
		}
	}
	for _, via := range s.FileNeeds {
		add(via.Step)
	}
	return all
}

// CallError says that a request names a task that does not exist.
type CallError struct {
	Name string
	Near []string // names it may be a slip of, nearest first
}

func (e *CallError) Error() string { return fmt.Sprintf("there is no task %q", e.Name) }

// RequiredError says that variables which steps refer to must be set, and are not.
type RequiredError struct{ project.Diagnostics }

// Unwrap returns the findings.
func (e *RequiredError) Unwrap() error { return e.Diagnostics }

// New returns the plan of req. The error is a [*RequiredError], a [*CallError] or,
// when a call or a text of the project cannot be filled in, a
// [project.Diagnostics]; or what EnvFiles returned.
func New(p *project.Project, req Request) (*Plan, error) {
	b := newBuilder(p, req)
	b.plan.builder = b
	base := req.Base
	if base == nil {
		base = p.File
	}
	for _, c := range req.Calls {
		t := c.Task
		if t == nil {
			t = base.Task(c.Name)
		}
		if t == nil {
			return nil, &CallError{Name: c.Name, Near: base.Near(c.Name)}
		}
		if t.Absent == "" {
			b.found = append(b.found, t.CheckCall(c)...)
		}
		b.entry(t, c, b.base(base))
	}
	if err := b.finish(0); err != nil {
		return nil, err
	}
	b.writers, b.byInstance = nil, nil // found again, should a step be expanded
	return b.plan, nil
}

// finish brings the steps from an index on into order, and returns what is
// wrong with them.
func (b *builder) finish(start int) error {
	b.orderByFiles(start)
	b.lockAll(b.plan.Steps[start:])
	b.world.report()
	if err := b.problems(); err != nil {
		return err
	}
	if len(b.required) > 0 {
		b.required.Sort()
		return &RequiredError{b.required}
	}
	for _, s := range b.plan.Steps[start:] {
		s.call, s.Name = s.Name, b.req.Secrets.Text(s.Name)
	}
	return nil
}

// call is what makes a step the same as another: the task and the values of
// all its arguments.
type call struct {
	task   *project.Task
	values string
	owner  *Trigger // for which it is made alone
}

// builder gathers the steps of a plan.
type builder struct {
	plan    *Plan
	req     Request
	steps   map[call]*Step
	plain   []*Step // of tasks without arguments that are there, by their index
	barrier []*Step // what a later entry must wait for
	bases   map[*project.File]*scope
	fromEnv map[string]bool // the variables of the caller's environment
	world   *world
	slab    []Step                     // not used yet
	lists   map[*project.List][]string // what was asked for
	answers Answers                    // that were asked for beforehand
	found   project.Diagnostics
	failed  error // of EnvFiles

	required project.Diagnostics // variables that must be set
	told     map[string]bool     // of which it was said already

	isFolder   map[string]bool            // what was asked of the world
	writers    *writers                   // of all tasks of the project; nil: not looked for yet
	byInstance map[*project.Task]*writers // of the instances of tasks; nil: they are not known yet
	reorder    bool                       // steps wait for others that stand behind them
}

func newBuilder(p *project.Project, req Request) *builder {
	fromEnv := make(map[string]bool, len(req.Env))
	for _, pair := range req.Env {
		name, _, _ := strings.Cut(pair, "=")
		fromEnv[name] = true
	}
	return &builder{
		fromEnv: fromEnv,
		plan:    &Plan{Project: p}, req: req, steps: map[call]*Step{}, plain: make([]*Step, len(p.Tasks)), bases: make(map[*project.File]*scope, len(p.Files)), world: newWorld(p, req),
	}
}

// problems returns what was found wrong on the way, or nil.
func (b *builder) problems() error {
	if b.failed != nil {
		return b.failed
	}
	found := append(b.found, b.world.found...)
	if len(found) == 0 {
		return nil
	}
	found.Sort()
	return slices.CompactFunc(found, func(a, b project.Diagnostic) bool { return a.Span == b.Span && a.Msg == b.Msg })
}

// entry adds a call and all it needs. Steps that were not in the plan before
// start only when the earlier entries have ended: "clean build" cleans first.
func (b *builder) entry(t *project.Task, c project.Call, caller *scope) {
	before := len(b.plan.Steps)
	s := b.add(t, c, caller, callSite{})
	b.plan.requested = append(b.plan.requested, s)
	if len(b.plan.Steps) == before {
		b.barrier = append(b.barrier, s)
		return
	}
	for _, added := range b.plan.Steps[before:] {
		if b.waitsForNew(added, before) {
			continue
		}
		if !b.reorder && added.After == nil {
			added.After = slices.Clip(b.barrier)
			continue
		}
		for _, other := range b.barrier {
			if !b.reorder || !precedes(added, other) { // else the order in a list of calls is stronger
				added.After = append(added.After, other)
			}
		}
	}
	b.barrier = []*Step{s}
}

// waitsForNew reports whether s needs a step added at or behind index before.
func (b *builder) waitsForNew(s *Step, before int) bool {
	found := false
	s.WaitsFor(func(other *Step) { found = found || other.Index >= before })
	return found
}

// add returns the step of a call of t that ends last, with all it needs in the
// plan before it. The words of the call are filled in from the caller's
// variables. The project is free of cycles, or it would not have been loaded.
func (b *builder) add(t *project.Task, c project.Call, caller *scope, in callSite) *Step {
	if t.Absent == "" && in.owner == nil {
		if s := b.plain[t.Index]; s != nil {
			b.want(s.end(), in)
			return s.end()
		}
	}
	args := b.values(t, c, caller)
	b.checkValues(t, c, args)
	if open := args.open(t); len(open) > 0 && t.Absent == "" {
		return b.loop(t, c, args, open, in)
	}
	return b.instance(t, c, args, in)
}

// newStep returns an empty step. They are made many at once.
func (b *builder) newStep() *Step {
	if len(b.slab) == 0 {
		b.slab = make([]Step, max(4, min(128, len(b.plan.Steps))))
	}
	s := &b.slab[0]
	b.slab = b.slab[1:]
	return s
}

// instance is add for a call all of whose values are given.
func (b *builder) instance(t *project.Task, c project.Call, args arguments, in callSite) *Step {
	key := call{t, args.key(), in.owner}
	if s := b.steps[key]; s != nil {
		b.want(s.end(), in)
		return s.end()
	}
	s := b.newStep()
	s.Name, s.Task, s.Run, s.Rest, s.Skip = args.name(t, c), t, t.RunOn(b.req.OS), args.rest, t.Absent
	s.CalledFor, s.FailureScope, s.Limited = in.owner, in.failures, in.limited
	if len(t.Args) == 0 && in.owner == nil && t.Absent == "" {
		b.plain[t.Index] = s
	} else {
		b.steps[key] = s
	}
	s.args = args.variables(t)
	s.scope, s.Folder = b.scopeOf(t, s.args, args.rest)
	if s.Skip == "" {
		s.Skip = b.req.Secrets.Text(t.When.Fails(b.req.OS, b.req.Arch, s.scope.value))
	}
	if s.Skip != "" {
		b.append(s, in)
		return s
	}
	if t.Composite() {
		s.Role = Start
	}
	b.paths(s)
	b.refer(s)
	b.checkConditions(s)
	for _, c := range t.Needs {
		need := b.add(c.Task, c, s.scope, callSite{trigger: in.trigger, failures: in.failures})
		if need.neededBy != s { // else it is named twice
			need.neededBy = s
			s.Needs = append(s.Needs, need)
		}
	}
	s.ownNeeds = len(s.Needs)
	b.takeWriters(s, in)
	b.append(s, in)
	return b.compose(s, in)
}
