// Package project reads tugline.toml and gives the tasks it names, checked,
// with the place of every key and value.
package project

import (
	"strings"
	"time"
)

// Project is a checked tugline.toml with all its parts. It does not change once
// loaded.
type Project struct {
	*File         // the top file
	Files []*File // the top file, then its parts: those with fewer names in front first
	Tasks []*Task // of all files, in their order
}

// File is one project file: the top one, or a part.
type File struct {
	Source    *Source
	Folder    string // absolute: where the file stands
	Prefix    string // what stands before the names of its tasks, such as "docs/"; empty at the top
	Parent    *File  // the file that takes it in; nil at the top
	Title     string
	Default   []Call    // what a bare tugline runs; empty: it lists. Counts at the top alone
	Jobs      int       // tasks at once; 0: the number of processors. Counts at the top alone
	After     string    // what a failure does to the others: drain, abort or continue; empty: drain. Counts at the top alone
	ParentEnv []Var     // what the file around sets for this part; stronger than Env
	Env       []Var     // in the order of the file
	EnvFiles  []EnvFile // the later ones are stronger, and stronger than those of the file around
	Ignore    []Glob    // of files that are never read
	Tasks     []*Task   // in the order of the file
	Parts     []*Part   // in the order of the file

	StoreLimit int64   // bytes; 0: it is not said. Counts at the top alone
	KeepRuns   int     // how many runs are remembered; 0: it is not said. Counts at the top alone
	Output     string  // how the output of tasks is shown: one of Outputs; empty: auto. Counts at the top alone
	Lists      []*List // in the order of the file

	shell   Shell
	echo    bool
	byName  map[string]*Task // names and aliases, as they stand in the file
	skipped []byte           // what could not be read: tasks and keys in it are not known
}

// Part is a project file that another one takes in.
type Part struct {
	Name     string
	Span     Span // of the name
	Path     Text // a folder or a file, relative to the folder of the file that takes it in
	Optional bool // it need not be there
	Env      []Var
	File     *File // nil: it is not there, or cannot be read

	broken bool             // it cannot be read: which tasks it has is not known
	absent map[string]*Task // what stands for the tasks of an optional part that is not there
}

// Task is one declared task.
type Task struct {
	Index    int    // in Project.Tasks; of a task that is absent, 0
	Name     string // with the names of the parts that lead to it: docs/lint
	OwnName  string // without them
	Span     Span   // of the name, in the task's header
	File     *File  // that defines it
	About    string
	Aliases  []Name
	Unlisted bool
	Run      []Text // scripts, in order, where the system has none of its own
	Shell    Shell
	Folder   Text // unexpanded, relative to the folder of the file; empty: that folder
	Env      []Var
	Args     []*Arg
	Needs    []Call
	Reads    []Paths
	Writes   []Paths
	ReadsEnv []Name // variables that its programs read
	OnlyEnv  bool   // of the others, only those count that it mentions or declares: reads_env is given
	Echo     bool   // show each command as it starts
	Absent   string // why there is no such task, though it may be called: its part is optional

	When      *When // never nil in a task that is there
	Require   []Requirement
	Retry     *Retry        // never nil in a task that is there; the zero Retry: one attempt
	AtOnce    int           // how many instances may run at once; 0: no limit
	After     string        // what a failure does to the others of what it calls; empty: it is not said
	Locks     []Name        // tasks that share one never overlap
	Ask       Text          // a question, unexpanded, to be answered before anything starts; empty: none
	Terminal  bool          // it owns the terminal
	Timeout   time.Duration // of one attempt; 0: none
	Always    bool          // run even if nothing changed
	OnRequest bool          // not taken into a plan only because of what it writes
	NoStore   bool          // keep no copies of the outputs
	// ClearWrites deletes what its last good run left before it runs.
	ClearWrites bool
	// Depfile is the path of a file in which its program lists what it read, unexpanded;
	// empty: there is none.
	Depfile   Text
	HoldUntil *Hold    // what it waits for before it starts; nil: nothing
	WatchAlso []Glob   // when a file of them changes in a watch, it runs
	Service   *Service // it is a program that stays; nil: it is not

	stays bool              // a key says that it is a service
	calls map[Kind]Calls    // by the key that makes them, but for needs
	runOn map[string][]Text // scripts by system: linux, darwin, windows, unix
}

// Retry tells how often a task that failed is tried again.
type Retry struct {
	Times  int           // further attempts
	Wait   time.Duration // before the second attempt
	Factor float64       // by which each wait is longer than the one before; at least 1
	On     []int         // only after these exit codes; none: after every failure
}

// What most tasks say of conditions and further attempts: nothing. Nobody writes
// to them.
var (
	noWhen  When
	noRetry Retry
)

// Outputs are the values of output.
var Outputs = []string{"auto", "lines", "blocks", "direct"}

// AfterFailure are the values of after_failure.
var AfterFailure = []string{"drain", "abort", "continue"}

// Name is a name with its place.
type Name struct {
	Value string
	Span  Span
}

// Var is a variable that the file sets.
type Var struct {
	Name  string
	Span  Span // of the name
	Value Text // unexpanded
	Fixed bool // Value is the value: nothing in it expands

	Default bool // Value holds only if neither the caller nor an env file sets the variable

	*Details // never nil; what only the long form says
}

// Details are what the long form of a variable says of it.
type Details struct {
	Run       Text // a script whose output is the value; empty: none
	File      Text // a file whose text is the value, unexpanded, relative to the folder of the file; empty: none
	MustBeSet bool // it has no value here; it must be set from outside for the tasks that refer to it
	About     string
	Example   string // a value to show in a sample env file
	Secret    bool   // the value is never shown

	NotCounted bool // a change of it is no reason to run

	systems map[string]Text // values by system, as runOn of a task
}

// plain are the details of all variables in the short form. Nobody writes to them.
var plain Details

// FixedVar returns a variable that has a value in which nothing expands.
func FixedVar(name, value string) Var {
	return Var{Name: name, Value: Text{Value: value}, Fixed: true, Details: &plain}
}

// Computed reports whether the value is only known when it is asked for.
func (v *Var) Computed() bool { return v.Run.Value != "" || v.File.Value != "" }

// EnvFile is an env file that the project names.
type EnvFile struct {
	Path      Text // relative to the folder of the project file; nothing in it expands
	MustExist bool // it must be there
}

// Shell is what runs a script. The zero Shell is the built-in one.
type Shell struct {
	Args []string // a program and its arguments; none: the built-in shell, or bash
	Only bool     // with no Args: the built-in shell whatever the script is, bash for none
	Span Span
}

// IsAuto reports whether the text of a script decides between the built-in shell and bash.
func (s Shell) IsAuto() bool { return len(s.Args) == 0 && !s.Only }

// Name returns what the project file says, or would say.
func (s Shell) Name() string {
	switch {
	case s.IsAuto():
		return "auto"
	case s.Only:
		return "builtin"
	}
	return strings.Join(s.Args, " ")
}

// Summary returns the first line of the task's about text.
func (t *Task) Summary() string {
	first, _, _ := strings.Cut(t.About, "\n")
	return first
}

// IsGroup reports whether t has no commands of its own: it is a group of its
// needs, or of what it calls.
func (t *Task) IsGroup() bool {
	return len(t.Run) == 0 && len(t.runOn) == 0 && (t.Service == nil || t.Service.Serve == nil)
}

// RunOn returns the scripts of t on a system, as Go names it, in order. A task
// that is no group may have none.
func (t *Task) RunOn(system string) []Text {
	if run, ok := t.runOn[system]; ok {
		return run
	}
	if run, ok := t.runOn["unix"]; ok && system != "windows" {
		return run
	}
	return t.Run
}
