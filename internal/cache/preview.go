package cache

import (
	"fmt"
	"runtime"
	"slices"
	"sync"

	"tugline/internal/fingerprint"
	"tugline/internal/glob"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// StepPreview is what a run would do with a step.
type StepPreview struct {
	Step    *plan.Step
	Action  Action
	Reasons []fingerprint.Reason
}

// Preview is what a run would do.
type Preview struct {
	Steps   []StepPreview // those that have commands, in order
	Removes []Made        // by instances that are no more
}

// Preview returns what a run of p would do. It changes nothing but p, which gets
// the instances whose values are known already.
func (c *Cache) Preview(p *plan.Plan) (Preview, error) {
	f := &previewer{cache: c, base: c.Files, pending: map[*plan.Step]bool{}, idle: map[*plan.Step]bool{}, unsure: map[*plan.Step]bool{}, restores: map[*plan.Step]string{}, left: map[*plan.Step]*restoration{}}
	err := f.removals(p, p.LoopedTasks())
	if err == nil {
		err = f.steps(p, p.Steps)
	}
	return Preview{f.all, f.removes}, err
}

// removals notes what will be removed, since instances of tasks are no more. What
// is decided later is decided without it.
func (f *previewer) removals(p *plan.Plan, tasks []*project.Task) error {
	for _, t := range tasks {
		gone, err := f.cache.Vanished(p, t)
		if err != nil {
			return err
		}
		for _, made := range gone {
			if len(made.Paths) > 0 {
				f.removes = append(f.removes, made)
				f.base = &viewAfterRestore{f.base, []*restoration{f.cache.removal(made.Paths)}}
			}
		}
	}
	return nil
}

// steps goes through steps in their order. Those that a loop adds come with it.
func (f *previewer) steps(p *plan.Plan, steps []*plan.Step) error {
	in := f.base
	decided := f.cache.decideAll(steps, in)
	for i, s := range steps {
		if f.base != in && (s.Works() || s.Skip != "") && s.Loop == nil { // something else goes, by now
			decided[i] = f.cache.decidedIn(s, s.Inputs(), f.base)
		}
		if err := f.step(p, s, &decided[i]); err != nil {
			return err
		}
	}
	return nil
}

// decided is what is needed here of what [Cache.Decide] says of a step.
type decided struct {
	action  Action
	reasons []fingerprint.Reason
	sum     string // of the fingerprint
	err     error
}

// decidedIn judges a step by the files of a view.
func (c *Cache) decidedIn(s *plan.Step, inputs []plan.Input, in fileView) decided {
	v, err := c.decide(s, inputs, in)
	return decided{v.Action, v.Reasons, v.now.Sum, err}
}

// decideAll judges all steps that are decided for themselves, on all processors:
// nothing changes meanwhile, so the order does not matter.
func (c *Cache) decideAll(steps []*plan.Step, in fileView) []decided {
	all := make([]decided, len(steps))
	type work struct {
		at     int
		inputs []plan.Input
	}
	next := make(chan work, 64)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for w := range next {
				all[w.at] = c.decidedIn(steps[w.at], w.inputs, in)
			}
		})
	}
	for i, s := range steps {
		if s.Loop != nil || !s.Works() && s.Skip == "" {
			continue
		}
		w := work{at: i}
		if s.Works() && (Declares(s) || c.Resumed != nil) {
			w.inputs = s.Inputs() // not in several goroutines
		}
		next <- w
	}
	close(next)
	wg.Wait()
	return all
}

// previewer goes through a plan.
type previewer struct {
	cache   *Cache
	base    fileView // the files, without what will be removed
	all     []StepPreview
	removes []Made
	pending map[*plan.Step]bool // they may do something
	idle    map[*plan.Step]bool // they are left as they are, or skipped
	unsure  map[*plan.Step]bool // their conditions are not known yet, and they call others

	restores map[*plan.Step]string       // the fingerprints of those that are sure to be restored
	left     map[*plan.Step]*restoration // what that will leave, where it was asked for; nil: it is not known
}

func (f *previewer) step(p *plan.Plan, s *plan.Step, decided *decided) error {
	if s.Loop != nil {
		return f.loop(p, s)
	}
	if !s.Works() && s.Skip == "" {
		return f.groupStep(s)
	}
	one, err := f.byFiles(s, decided)
	if err != nil {
		return err
	}
	one.weighVariables()
	if err := f.cache.weighConditions(&one, f.pending); err != nil {
		return err
	}
	f.weighCalls(&one)
	if one.Action == ToRestore {
		f.restores[s] = decided.sum
	}
	if one.Action != UpToDate && one.Action != Skip {
		f.pending[s] = true
	} else {
		f.idle[s] = true
	}
	f.all = append(f.all, one)
	return nil
}

// byFiles returns what a run would do with a step by the files that it reads:
// as they will be, if that is known, else as they are.
func (f *previewer) byFiles(s *plan.Step, now *decided) (StepPreview, error) {
	if restored := f.restoredBefore(s); restored != nil {
		*now = f.cache.decidedIn(s, s.Inputs(), &viewAfterRestore{f.base, restored})
		return StepPreview{s, now.action, now.reasons}, now.err
	}
	one := StepPreview{s, now.action, now.reasons}
	if now.err != nil {
		return one, now.err
	}
	return one, one.weighWriters(f.pending, f.restores)
}

// restoredBefore returns what the restores will leave from which s reads. It is
// nil if there are none, or if a step that s reads from may leave something else.
func (f *previewer) restoredBefore(s *plan.Step) []*restoration {
	var restored []*restoration
	for _, via := range s.FileNeeds {
		key, sure := f.restores[via.Step]
		if !f.pending[via.Step] {
			continue
		}
		if !sure {
			return nil
		}
		left, asked := f.left[via.Step]
		if !asked {
			left = f.cache.restoration(via.Step, key)
			f.left[via.Step] = left
		}
		if left == nil {
			return nil
		}
		if !slices.Contains(restored, left) {
			restored = append(restored, left)
		}
	}
	return restored
}

// groupStep previews a step that stands for others.
func (f *previewer) groupStep(s *plan.Step) error {
	one := StepPreview{Step: s, Action: ToRun}
	if s.Role == plan.Start {
		if err := f.cache.weighConditions(&one, f.pending); err != nil {
			return err
		}
	}
	f.pending[s] = slices.ContainsFunc(s.Needs, func(need *plan.Step) bool { return f.pending[need] })
	f.idle[s], f.unsure[s] = one.Action == Skip, one.Action == Maybe
	if one.Action == Skip {
		f.all = append(f.all, one)
	}
	return nil
}

// loop adds the instances of a step, if what tells their values will not be
// made anew.
func (f *previewer) loop(p *plan.Plan, s *plan.Step) error {
	if s.Loop.Uncomputed {
		f.pending[s] = true
		f.all = append(f.all, StepPreview{s, Maybe, reason("uncomputed", "its values are not computed")})
		return nil
	}
	for _, need := range s.Needs {
		if f.pending[need] {
			f.pending[s] = true
			f.all = append(f.all, StepPreview{s, Maybe, []fingerprint.Reason{{
				Kind: "upstream", What: need.Name, Text: fmt.Sprintf("its values are known when %s has ended", need.Name),
			}}})
			return nil
		}
	}
	added, err := p.Expand(s, nil)
	if err == nil {
		if f.cache.Expanded != nil {
			f.cache.Expanded(p)
		}
		err = f.removals(p, []*project.Task{s.Task})
	}
	if err == nil {
		err = f.steps(p, added)
	}
	f.pending[s] = slices.ContainsFunc(s.Needs, func(need *plan.Step) bool { return f.pending[need] })
	return err
}

// weighCalls makes a decision uncertain, or none, of a step that is called
// because of how another one ends.
func (f *previewer) weighCalls(one *StepPreview) {
	if len(one.Step.Triggers) == 0 || one.Action == Skip {
		return
	}
	var reasons []fingerprint.Reason
	certain := false
	for _, t := range one.Step.Triggers {
		called, owner := f.called(t)
		if called == "" {
			certain = true
			continue
		}
		reasons = append(reasons, fingerprint.Reason{Kind: called, What: owner.Name, Text: callText(called, owner)})
	}
	one.Reasons = slices.DeleteFunc(one.Reasons, func(r fingerprint.Reason) bool { return r.Kind == "called" })
	switch {
	case certain || len(reasons) == 0:
	case !slices.ContainsFunc(reasons, func(r fingerprint.Reason) bool { return r.Kind != "idle" }):
		one.Action, one.Reasons = Skip, reasons
	case slices.ContainsFunc(reasons, func(r fingerprint.Reason) bool { return r.Kind == "finally" }) && one.Action == ToRun:
		one.Reasons = append(reasons, one.Reasons...)
	default:
		one.Action, one.Reasons = Maybe, append(reasons, one.Reasons...)
	}
}

// callText says when an after-call is made.
func callText(kind string, owner *plan.Step) string {
	switch kind {
	case "if_failed":
		return fmt.Sprintf("only if %s fails", owner.Name)
	case "finally":
		return fmt.Sprintf("after %s, however it ends", owner.Name)
	case "when":
		return fmt.Sprintf("only if the condition of %s holds", owner.Name)
	}
	return fmt.Sprintf("called by %s, which does not need to run", owner.Name)
}

// called returns of which kind a call is, if that is not sure to be made: idle
// if it is sure not to be.
func (f *previewer) called(t *plan.Trigger) (kind string, owner *plan.Step) {
	owner = t.Owners[0]
	if f.unsure[owner.First()] && (t.Kind == project.DirectCalls || t.Kind == project.Finally) {
		return "when", owner
	}
	moves := slices.ContainsFunc(t.Owners, func(o *plan.Step) bool {
		return f.pending[o] || t.Kind == project.Finally && !o.Works() && !f.idle[o.First()]
	})
	switch {
	case t.Kind == project.DirectCalls && !f.idle[owner], t.Kind == project.Then:
		return "", owner
	case !moves:
		return "idle", owner
	}
	return string(t.Kind), owner
}

// weighConditions makes a decision uncertain, or none, that rests on conditions
// which are asked when the needs have ended. Scripts are not run for it.
func (c *Cache) weighConditions(f *StepPreview, pending map[*plan.Step]bool) error {
	s := f.Step
	if f.Action == Skip || len(s.When) == 0 && s.Task.When.Run.Value == "" {
		return nil
	}
	if len(s.When) > 0 && !slices.ContainsFunc(s.Needs, func(need *plan.Step) bool { return pending[need] }) {
		missing, err := MissingFiles(c.Files, s)
		if missing != "" || err != nil {
			f.Action, f.Reasons = Skip, reason("skip", missing)
			return err
		}
		if s.Task.When.Run.Value == "" {
			return nil
		}
	}
	if f.Action != UpToDate {
		f.Action = Maybe
		f.Reasons = append(reason("when", "its condition is checked when its needs have ended"), f.Reasons...)
	}
	return nil
}

// weighVariables makes a decision uncertain that rests on variables which were
// not computed.
func (f *StepPreview) weighVariables() {
	if len(f.Step.Uncomputed) == 0 || f.Action == Skip || len(f.Reasons) > 0 && f.Reasons[0].Kind == "as-is" {
		return
	}
	whatever := []string{"first", "forced", "always", "undeclared", "called"} // the variables do not count
	if slices.ContainsFunc(f.Reasons, func(r fingerprint.Reason) bool { return slices.Contains(whatever, r.Kind) }) {
		f.Action = ToRun
		return
	}
	f.Action, f.Reasons = Maybe, nil
	for _, name := range f.Step.Uncomputed {
		f.Reasons = append(f.Reasons, fingerprint.Reason{Kind: "uncomputed", What: name, Text: fmt.Sprintf("%s is not computed", name)})
	}
}

// weighWriters makes a decision uncertain that rests on files which an earlier step
// may still write.
func (f *StepPreview) weighWriters(pending map[*plan.Step]bool, restores map[*plan.Step]string) error {
	var before *plan.Step
	var written []plan.Glob
	for _, via := range f.Step.FileNeeds {
		if pending[via.Step] {
			if _, sure := restores[via.Step]; !sure || before == nil {
				before = via.Step
			}
			written = append(append(written, via.Write), via.Step.Writes...)
		}
	}
	if before == nil || f.Action == Skip || len(f.Reasons) > 0 && f.Reasons[0].Kind == "as-is" {
		return nil
	}
	set, err := glob.Compile(plan.Patterns(written))
	if err != nil {
		return err
	}
	if f.Action != UpToDate {
		var certain []fingerprint.Reason
		for _, r := range f.Reasons {
			if r.Kind != "file" && r.Kind != "output" || r.Kind == "file" && !set.Match(r.What) {
				certain = append(certain, r)
			}
		}
		if len(certain) > 0 {
			f.Action, f.Reasons = ToRun, certain
			return nil
		}
	}
	f.Action = Maybe
	f.Reasons = []fingerprint.Reason{{Kind: "upstream", What: before.Name, Text: fmt.Sprintf("%s may change what it reads", before.Name)}}
	return nil
}
