package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"time"

	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/glob"
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
	Leave     Action = "unchanged" // nothing it depends on has changed
	ToRestore Action = "restore"   // it ran in this state before, and its outputs are kept
	Skip      Action = "skip"      // it is not to be run
)

// Verdict is what is to be done with a step, and why.
type Verdict struct {
	Action  Action
	Reasons []fingerprint.Reason

	done    bool                    // it was done in the run that is gone on with
	last    time.Duration           // what its last good run took; 0: not known
	now     fingerprint.Fingerprint // without files
	outputs files.Digest            // the sum of the outputs, as they are now
	reads   []files.Found           // what it reads, unless it is to be left
}

// Memory is what is known from earlier runs and how it is to be used. It may be
// used from many goroutines.
type Memory struct {
	Top    string // the top folder of the project
	Files  *files.Tree
	Ledger *history.Ledger
	Store  *store.Store // nil: nothing is kept and nothing restored
	World  fingerprint.World
	Run    string // the name of the run

	ForceAll bool
	Force    map[*project.Task]bool // run them whatever was
	AsIs     map[*project.Task]bool // take them as unchanged
	Done     *Done                  // what was done in the run that is gone on with; nil: there is none
}

func reason(kind, text string) []fingerprint.Reason {
	return []fingerprint.Reason{{Kind: kind, Text: text}}
}

// declares reports whether a step says what it reads or writes.
func declares(s *plan.Step) bool { return len(s.Task.Reads)+len(s.Task.Writes) > 0 }

// Judge returns what is to be done with a step whose inputs are given, as
// things are now. It changes nothing.
func (m *Memory) Judge(s *plan.Step, inputs []plan.Input) (Verdict, error) {
	return m.judge(s, inputs, m.Files)
}

// judge is Judge for the files of a view.
func (m *Memory) judge(s *plan.Step, inputs []plan.Input, in view) (Verdict, error) {
	switch {
	case s.Skip != "":
		return Verdict{Action: Skip, Reasons: reason("skip", s.Skip)}, nil
	case s.For != nil && s.For.Kind == project.IfFailed:
		return Verdict{Action: ToRun, Reasons: reason("called", fmt.Sprintf("called, since %q failed", s.For.Owners[0].Name))}, nil
	case m.AsIs[s.Task]:
		return Verdict{Action: Leave, Reasons: reason("as-is", "taken as it is, as you asked")}, nil
	case !declares(s):
		v := Verdict{Action: ToRun, Reasons: reason("undeclared", "it declares neither reads nor writes")}
		v.now = fingerprint.Compute(s, inputs, files.Digest{}, m.World)
		m.Done.weigh(s, &v)
		return v, nil
	}
	v := Verdict{Action: ToRun}
	head, known := m.Ledger.Head(s.ID())
	reads, err := inputsOf(s, &v, known, in)
	if err != nil {
		return v, err
	}
	if v.outputs, err = sum(s.Writes, in); err != nil {
		return v, err
	}
	v.now = fingerprint.Compute(s, inputs, reads, m.World)
	switch {
	case m.ForceAll || m.Force[s.Task]:
		v.Reasons = reason("forced", "forced")
		m.Done.weigh(s, &v)
	case s.Task.Always:
		v.Reasons = reason("always", "it always runs")
		m.Done.weigh(s, &v)
	default:
		err = m.compare(s, &v, head, known, in)
	}
	if err == nil && v.Action != Leave && v.reads == nil {
		v.reads, err = match(s.Reads, in) // now, while it is known
	}
	return v, err
}

// inputsOf returns the sum of what a step reads. One without a record will not be
// left, so its files are found at once.
func inputsOf(s *plan.Step, v *Verdict, known bool, in view) (files.Digest, error) {
	if known || len(s.Reads) == 0 {
		return sum(s.Reads, in)
	}
	set, err := glob.Compile(plan.Patterns(s.Reads))
	if err != nil {
		return files.Digest{}, err
	}
	found, digest, err := in.MatchAndSum(set)
	v.reads = found
	return digest, err
}

// compare holds a step against its record, of which head is known if there is one.
func (m *Memory) compare(s *plan.Step, v *Verdict, head history.Head, found bool, in view) (err error) {
	v.last = time.Duration(head.Ms) * time.Millisecond
	begun, mark, isBegun := m.Ledger.Begun(s.ID())
	switch {
	case isBegun && begun == v.now.Sum && mark == history.Started:
		v.Reasons = reason("failed", "its last run did not end well")
		return nil
	case found && !isBegun && head.Sum == v.now.Sum && head.OutputsSum == v.outputs.String():
		v.Action = Leave
		return nil
	}
	if v.Reasons, err = m.differences(s, v, in); err != nil {
		return err
	}
	if m.Store != nil && !s.Task.NoStore && m.Store.Has(v.now.Sum) {
		v.Action = ToRestore
	}
	return nil
}

// differences returns in what a step differs from its last good run.
func (m *Memory) differences(s *plan.Step, v *Verdict, in view) ([]fingerprint.Reason, error) {
	record, found := m.Ledger.Read(s.ID())
	if !found {
		return reason("first", "first run here"), nil
	}
	reads, err := match(s.Reads, in)
	if err != nil {
		return nil, err
	}
	now := v.now
	now.Files = fingerprint.Files(reads)
	reasons := fingerprint.Compare(record.Fingerprint, now)
	if len(reasons) == 0 {
		outputs, err := match(s.Writes, in)
		if err != nil {
			return nil, err
		}
		reasons = fingerprint.CompareFiles("output", record.Outputs, fingerprint.Files(outputs))
	}
	if len(reasons) == 0 {
		reasons = reason("failed", "its last run did not end well")
	}
	return reasons, nil
}

// sum returns the sum of the files that globs mean.
func sum(globs []plan.Glob, in view) (files.Digest, error) {
	if len(globs) == 0 {
		return files.Digest{}, nil
	}
	set, err := glob.Compile(plan.Patterns(globs))
	if err != nil {
		return files.Digest{}, err
	}
	return in.Sum(set)
}

// match returns the files that globs mean, as they are.
func (m *Memory) match(globs []plan.Glob) ([]files.Found, error) { return match(globs, m.Files) }

// match returns the files that globs mean.
func match(globs []plan.Glob, in view) ([]files.Found, error) {
	if len(globs) == 0 {
		return nil, nil
	}
	set, err := glob.Compile(plan.Patterns(globs))
	if err != nil {
		return nil, err
	}
	return in.Match(set)
}

// Paths returns the files that globs mean, as they are there now.
func Paths(tree *files.Tree, globs []plan.Glob) ([]string, error) {
	set, err := glob.Compile(plan.Patterns(globs))
	if err != nil {
		return nil, err
	}
	tree.Forget()
	found, err := tree.Match(set)
	paths := make([]string, len(found))
	for i := range found {
		paths[i] = found[i].Path
	}
	return paths, err
}

// Paths returns the files that a step reads and writes, as far as they are
// there.
func (m *Memory) Paths(s *plan.Step) (reads, writes []string, err error) {
	for _, list := range []struct {
		globs []plan.Glob
		paths *[]string
	}{{s.Reads, &reads}, {s.Writes, &writes}} {
		found, err := m.match(list.globs)
		if err != nil {
			return nil, nil, err
		}
		for i := range found {
			*list.paths = append(*list.paths, found[i].Path)
		}
	}
	return reads, writes, nil
}

// restore puts the kept outputs of a step into their places. done is false if
// they turned out not to be there. What stands in their places and was not left
// by the last good run is somebody's work: it is moved aside, and aside tells
// where to.
func (m *Memory) restore(s *plan.Step, v *Verdict) (done bool, aside string, err error) {
	entry, err := m.Store.Get(v.now.Sum)
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if err != nil {
		return false, "", err
	}
	v.last = entry.Took
	if err := m.Ledger.Begin(s.ID(), v.now.Sum, history.Restoring); err != nil {
		return false, "", err
	}
	root, err := os.OpenRoot(m.Top)
	if err != nil {
		return false, "", err
	}
	defer root.Close()
	staging := path.Join(history.FolderName, "restore-"+s.ID())
	present, err := m.match(s.Writes)
	if err != nil {
		return false, "", err
	}
	how := store.Restoring{
		Staging: staging, Present: present, Known: m.known(s, v), Aside: path.Join(history.FolderName, "replaced", m.Run),
	}
	moved, err := m.Store.Restore(entry, root, how)
	m.Files.Forget()
	if errors.Is(err, store.ErrNotFound) {
		return false, "", nil
	}
	if err != nil {
		return false, "", err
	}
	outputs, err := m.match(s.Writes)
	if err != nil {
		return false, "", err
	}
	if len(moved) > 0 {
		aside = how.Aside
	}
	return true, aside, m.write(s, v, outputs, v.last)
}

// known returns which outputs of a step are what its last good run left, or
// what it reads: running it would replace that, too.
func (m *Memory) known(s *plan.Step, v *Verdict) func(files.Found) bool {
	record, _ := m.Ledger.Read(s.ID()) // without one, none is known
	left := make(map[string]string, len(record.Outputs))
	for _, f := range record.Outputs {
		left[f.Path] = f.Mark
	}
	for _, f := range v.reads {
		left[f.Path] = markOf(f)
	}
	return func(f files.Found) bool { return left[f.Path] == markOf(f) }
}

// keep checks the outputs of a step that ended well, keeps them and writes the
// record. That they cannot be kept in the store is no failure: unkept tells why.
func (m *Memory) keep(s *plan.Step, v *Verdict, e ended) (unkept string, err error) {
	m.Files.Forget()
	toStore := m.Store != nil && !s.Task.NoStore
	outputs, err := m.outputs(s, toStore)
	if err != nil {
		return "", err
	}
	root, err := os.OpenRoot(m.Top)
	if err != nil {
		return "", err
	}
	defer root.Close()
	if err := checkOutputs(s, root, outputs); err != nil {
		return "", err
	}
	before := v.now.Sum
	if err := m.readAgain(s, v, e.inputs, outputs); err != nil {
		return "", err
	}
	if toStore {
		if err := m.Store.Put(before, root, outputs, store.Made{Took: e.took, Log: e.log}); err != nil {
			unkept = "not kept in the store: " + err.Error()
		}
	}
	return unkept, m.write(s, v, outputs, e.took)
}

// ended is what is known of a step that ended well.
type ended struct {
	inputs []plan.Input
	took   time.Duration
	log    []byte // what it printed; nil: not known
}

// readAgain takes the fingerprint of a step anew if it changed what it reads,
// as a formatter does: what it left is the state in which it ended well.
func (m *Memory) readAgain(s *plan.Step, v *Verdict, inputs []plan.Input, outputs []files.Found) error {
	if len(v.reads) == 0 || len(outputs) == 0 {
		return nil
	}
	set, err := glob.Compile(plan.Patterns(s.Reads))
	if err != nil {
		return err
	}
	for i := range outputs {
		if set.Match(outputs[i].Path) {
			if v.reads, err = m.Files.Match(set); err != nil {
				return err
			}
			v.now = fingerprint.Compute(s, inputs, files.SumOf(v.reads), m.World)
			return nil
		}
	}
	return nil
}

func (m *Memory) write(s *plan.Step, v *Verdict, outputs []files.Found, took time.Duration) error {
	now := v.now
	now.Files = fingerprint.Files(v.reads)
	outputsSum := files.Digest{}
	if len(s.Writes) > 0 {
		outputsSum = files.SumOf(outputs)
	}
	return m.Ledger.Write(s.ID(), history.Record{
		Call: s.Name, Task: s.Task.Name, Run: m.Run, Finished: time.Now().UTC(), Ms: took.Milliseconds(),
		Sum: now.Sum, OutputsSum: outputsSum.String(), Fingerprint: now, Outputs: fingerprint.Files(outputs),
	})
}

// printed gathers what a step prints, to be kept with its outputs.
type printed struct {
	text bytes.Buffer
	over bool // it is too much to be kept
}

// maxPrinted is how much of what a step prints is kept, in bytes.
const maxPrinted = 4 << 20

func (p *printed) add(text []byte) {
	if p.over = p.over || p.text.Len()+len(text) > maxPrinted; !p.over {
		p.text.Write(text)
	}
}

// bytes returns what was printed; nil if it was too much.
func (p *printed) bytes() []byte {
	if p.over {
		return nil
	}
	return append([]byte{}, p.text.Bytes()...)
}

// lock makes sure that a step runs once at a time in all processes. waited
// tells whether another one held it.
func (m *Memory) lock(ctx context.Context, s *plan.Step, waiting func()) (unlock func(), waited bool, err error) {
	unlock, err = m.Ledger.Lock(ctx, s.ID(), func() {
		waited = true
		waiting()
	})
	return unlock, waited, err
}
