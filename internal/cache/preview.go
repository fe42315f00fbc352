package cache

import (
	"cmp"
	"context"
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
	Steps   []StepPreview               // those that have commands, in order
	Removes []Made                      // by instances that are no more
	Causes  map[*plan.Step][]plan.Cause // why each step is in the plan
	// EmptyReads are the patterns of reads that match nothing, and that no task is to fill.
	EmptyReads []EmptyRead
}

// Preview returns what a run of p would do. It changes nothing but p, which gets
// the instances whose values are known already.
func (c *Cache) Preview(ctx context.Context, p *plan.Plan) (Preview, error) {
	f := &previewer{ctx: ctx, cache: c, base: c.Files, pending: map[*plan.Step]bool{}, ends: map[*plan.Step]plan.Outcomes{}, restores: map[*plan.Step]string{}, left: map[*plan.Step]*restoration{}}
	err := f.removals(p, p.LoopedTasks())
	if err == nil {
		err = f.steps(p, p.Steps)
	}
	if err == nil {
		err = f.services(p)
	}
	return Preview{f.all, f.removes, p.Causes(), f.empty.List(c)}, err
}

// services finds which services will be started: those that are asked for by name,
// and those that a step uses which may run.
func (f *previewer) services(p *plan.Plan) error {
	users := map[*plan.Step]*plan.Step{} // by service: the first step that runs with it
	for _, one := range f.all {
		if one.Action == ToRun || one.Action == Maybe {
			for _, s := range one.Step.Services() {
				users[s] = cmp.Or(users[s], one.Step)
			}
		}
	}
	asked := p.Asked()
	for s := range asked {
		for _, used := range s.Services() {
			users[used] = cmp.Or(users[used], s)
		}
	}
	for i := range f.all {
		one := &f.all[i]
		if one.Action != ToStart {
			continue
		}
		switch user := users[one.Step]; {
		case asked[one.Step]:
			one.Reasons = reason("asked", "asked for by name")
		case user != nil:
			one.Reasons = []fingerprint.Reason{{Kind: "needed", What: user.Name, Text: "needed by " + user.Name}}
		default:
			one.Action, one.Reasons = Skip, reason("unneeded", "nothing that needs it runs")
			continue
		}
		if f.cache.Running == nil {
			continue
		}
		sum, err := f.cache.Sum(one.Step, one.Step.Inputs())
		if err != nil {
			return err
		}
		if f.cache.Running(one.Step, sum) {
			one.Action, one.Reasons = ToReuse, reason("running", "runs in the background")
		}
	}
	return nil
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
	decided := f.cache.decideAll(f.ctx, steps, in)
	waiting := make([]int, len(steps)) // indexes
	for i := range waiting {
		waiting[i] = i
	}
	for forced := false; len(waiting) > 0; {
		var still []int
		for _, i := range waiting {
			s := steps[i]
			if !forced && !f.isReady(s) {
				still = append(still, i)
				continue
			}
			forced = false
			if f.base != in && (s.Works() || s.Skip != "") && s.Loop == nil { // something else goes, by now
				decided[i] = f.cache.decidedIn(f.ctx, s, s.Inputs(), f.base)
			}
			if err := f.step(p, s, &decided[i]); err != nil {
				return err
			}
		}
		forced = len(still) == len(waiting) // they decide over each other: one has to be the first
		waiting = still
	}
	return nil
}

// isReady reports whether all is known on which a step depends: how its needs may
// end, and whether it is called. Nearly always that is so in the order of the plan.
func (f *previewer) isReady(s *plan.Step) bool {
	unknown := func(other *plan.Step) bool { return f.ends[other] == 0 }
	if slices.ContainsFunc(s.Needs, unknown) {
		return false
	}
	return f.made(s) == plan.IsMade || !slices.ContainsFunc(s.Triggers, func(t *plan.Trigger) bool { return slices.ContainsFunc(t.Owners, unknown) })
}

// decided is what is needed here of what [Cache.Decide] says of a step.
type decided struct {
	action   Action
	reasons  []fingerprint.Reason
	finished bool        // in the run that is resumed
	sum      string      // of the fingerprint
	empty    []plan.Glob // which of its reads match nothing
	err      error
}

// decidedIn judges a step by the files of a view.
func (c *Cache) decidedIn(ctx context.Context, s *plan.Step, inputs []plan.Input, in fileView) decided {
	v, err := c.decide(ctx, s, inputs, in)
	return decided{v.Action, v.Reasons, v.Finished, v.now.Sum, v.EmptyReads, err}
}

// decideAll judges all steps that are decided for themselves, on all processors:
// nothing changes meanwhile, so the order does not matter.
func (c *Cache) decideAll(ctx context.Context, steps []*plan.Step, in fileView) []decided {
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
				all[w.at] = c.decidedIn(ctx, steps[w.at], w.inputs, in)
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
	ctx     context.Context // of the call of Preview that it serves
	cache   *Cache
	base    fileView // the files, without what will be removed
	all     []StepPreview
	removes []Made
	empty   EmptyReads
	pending map[*plan.Step]bool          // they may do something
	ends    map[*plan.Step]plan.Outcomes // how they may end

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
	one, err := StepPreview{s, ToStart, nil}, error(nil)
	if decided.action != ToStart {
		one, err = f.byFiles(s, decided)
	}
	if err != nil {
		return err
	}
	one.applyVariables()
	ends := endings(one.Action, decided.finished)
	open, err := f.cache.applyConditions(&one, f.pending)
	if err != nil {
		return err
	}
	if open || f.applyCalls(&one) == plan.MayBeMade {
		ends |= plan.Skipped | plan.NotStarted
	}
	if one.Action == ToStart {
		f.ends[s] = ends | f.blocked(s.Needs)
		f.all = append(f.all, one)
		return nil
	}
	if one.Action == ToRestore {
		f.restores[s] = decided.sum
	}
	if one.Action == Skip {
		ends = endings(Skip, false)
	} else {
		f.empty.Add(s, withoutWriters(s, decided.empty))
	}
	f.pending[s] = one.Action != UpToDate && one.Action != Skip
	f.ends[s] = ends | f.blocked(s.Needs)
	f.all = append(f.all, one)
	return nil
}

// withoutWriters returns globs without those that another step of the plan writes.
func withoutWriters(s *plan.Step, globs []plan.Glob) []plan.Glob {
	return slices.DeleteFunc(slices.Clone(globs), func(g plan.Glob) bool {
		return slices.ContainsFunc(s.FileNeeds, func(via plan.FileNeed) bool { return via.Read.Text.Span == g.Text.Span })
	})
}

// blocked returns Blocked if one of needs may fail or be blocked itself, else nothing.
func (f *previewer) blocked(needs []*plan.Step) plan.Outcomes {
	for _, need := range needs {
		if cmp.Or(f.ends[need], plan.AnyEnd)&(plan.Failed|plan.Blocked) != 0 {
			return plan.Blocked
		}
	}
	return 0
}

// endings returns how a step may end by what is to be done with it, conditions and
// triggers aside.
func endings(action Action, finished bool) plan.Outcomes {
	switch {
	case action == Skip:
		return plan.Skipped | plan.NotStarted
	case action == UpToDate && finished: // it was started, if not now
		return plan.Succeeded | plan.Started
	case action == UpToDate, action == ToRestore:
		return plan.Succeeded | plan.NotStarted
	case action == Maybe:
		return plan.Succeeded | plan.Failed | plan.Started | plan.NotStarted
	}
	return plan.Succeeded | plan.Failed | plan.Started
}

// byFiles returns what a run would do with a step by the files that it reads:
// as they will be, if that is known, else as they are.
func (f *previewer) byFiles(s *plan.Step, now *decided) (StepPreview, error) {
	if restored := f.restoredBefore(s); restored != nil {
		*now = f.cache.decidedIn(f.ctx, s, s.Inputs(), &viewAfterRestore{f.base, restored})
		return StepPreview{s, now.action, now.reasons}, now.err
	}
	one := StepPreview{s, now.action, now.reasons}
	if now.err != nil {
		return one, now.err
	}
	return one, one.applyWriters(f.pending, f.restores)
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
			left = f.cache.restoration(f.ctx, via.Step, key)
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
	ends := plan.Succeeded | plan.Started
	switch s.Role {
	case plan.Body:
		ends |= f.blocked(s.Needs)
	case plan.Start:
		ends |= f.blocked(s.Needs)
		open, err := f.cache.applyConditions(&one, f.pending)
		if err != nil {
			return err
		}
		if open {
			ends |= plan.Skipped | plan.NotStarted
		}
	default:
		if s.Previous != nil && s.Role == plan.Outcome {
			ends |= f.ends[s.Previous] & (plan.Skipped | plan.NotStarted)
		}
		if s.Previous != nil {
			ends |= f.ends[s.Previous] & (plan.Failed | plan.Blocked)
		}
		if f.blocked(s.Called) != 0 {
			ends |= plan.Failed
		}
	}
	switch made := f.made(s); {
	case one.Action == Skip || made == plan.NotMade, s.Previous != nil && f.ends[s.Previous] == endings(Skip, false):
		ends = endings(Skip, false)
	case made == plan.MayBeMade:
		ends |= plan.Skipped | plan.NotStarted
	}
	f.pending[s] = slices.ContainsFunc(s.Needs, func(need *plan.Step) bool { return f.pending[need] })
	f.ends[s] = ends
	if one.Action == Skip {
		f.all = append(f.all, one)
	}
	return nil
}

// made tells whether one of the triggers of a step comes true.
func (f *previewer) made(s *plan.Step) plan.Made {
	if len(s.Triggers) == 0 {
		return plan.IsMade
	}
	best := plan.NotMade
	for _, t := range s.Triggers {
		best = max(best, t.Decide(f.outlook(t)))
	}
	return best
}

// outlook returns what is taken for possible of the owners of a trigger: that
// something fails only where it is asked for.
func (f *previewer) outlook(t *plan.Trigger) func(*plan.Step) plan.Outcomes {
	return func(owner *plan.Step) plan.Outcomes {
		ends := cmp.Or(f.ends[owner], plan.AnyEnd)
		if t.Kind == project.Finally { // it is the first step of the owner that starts
			ends = cmp.Or(f.ends[owner.First()], plan.AnyEnd)
		}
		if t.Kind == project.DirectCalls || t.Kind == project.Then {
			ends &^= plan.Failed | plan.Blocked
		}
		return ends
	}
}

// loop adds the instances of a step, if what tells their values will not be
// made anew.
func (f *previewer) loop(p *plan.Plan, s *plan.Step) error {
	if s.Loop.Uncomputed {
		f.pending[s], f.ends[s] = true, plan.AnyEnd
		f.all = append(f.all, StepPreview{s, Maybe, reason("uncomputed", "its values are not computed")})
		return nil
	}
	for _, need := range s.Needs {
		if f.pending[need] {
			f.pending[s], f.ends[s] = true, plan.AnyEnd
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
	if err == nil {
		err = f.groupStep(s)
	}
	return err
}

// applyCalls makes a decision uncertain, or none, of a step that is called
// because of how another one ends. It returns whether it is called.
func (f *previewer) applyCalls(one *StepPreview) plan.Made {
	made := f.made(one.Step)
	if len(one.Step.Triggers) == 0 || one.Action == Skip {
		return made
	}
	one.Reasons = slices.DeleteFunc(one.Reasons, func(r fingerprint.Reason) bool { return r.Kind == "called" })
	var reasons []fingerprint.Reason
	for _, t := range one.Step.Triggers {
		byThis := t.Decide(f.outlook(t))
		if byThis == plan.IsMade && t.Kind != project.Finally && t.Kind != project.AtEnd {
			return made // a call that is sure needs no reason
		}
		owner := t.Owners[0]
		kind := f.calledBecause(t, byThis)
		text := callText(kind, owner)
		if kind == "idle" && f.ends[owner.First()]&plan.Skipped != 0 {
			text = fmt.Sprintf("called by %s, which is skipped", owner.Name)
		}
		reasons = append(reasons, fingerprint.Reason{Kind: kind, What: owner.Name, Text: text})
	}
	switch made {
	case plan.NotMade:
		one.Action, one.Reasons = Skip, reasons
	case plan.MayBeMade:
		one.Action, one.Reasons = Maybe, append(reasons, one.Reasons...)
	case plan.IsMade:
		one.Reasons = append(reasons, one.Reasons...)
	}
	return made
}

// calledBecause returns the kind of the reason why calls are made, or not.
func (f *previewer) calledBecause(t *plan.Trigger, made plan.Made) string {
	switch {
	case made == plan.NotMade:
		return "idle"
	case t.Kind == project.IfFailed, made == plan.IsMade:
		return string(t.Kind)
	}
	for _, owner := range t.Owners {
		if f.ends[owner.First()]&plan.Skipped != 0 {
			return "when"
		}
	}
	return string(t.Kind)
}

// callText says when an after-call is made.
func callText(kind string, owner *plan.Step) string {
	switch kind {
	case "if_failed":
		return fmt.Sprintf("only if %s fails", owner.Name)
	case "finally":
		return fmt.Sprintf("after %s, however it ends", owner.Name)
	case "at_end":
		return fmt.Sprintf("last of all, after %s", owner.Name)
	case "when":
		return fmt.Sprintf("only if the condition of %s holds", owner.Name)
	case "calls", "then":
		return fmt.Sprintf("only if %s runs", owner.Name)
	}
	return fmt.Sprintf("called by %s, which does not need to run", owner.Name)
}

// applyConditions makes a decision uncertain, or none, that rests on conditions
// which are asked when the needs have ended. Scripts are not run for it. open says
// that they may turn out not to hold.
func (c *Cache) applyConditions(f *StepPreview, pending map[*plan.Step]bool) (open bool, err error) {
	s := f.Step
	if f.Action == Skip || len(s.When) == 0 && s.Task.When.Run.Value == "" {
		return false, nil
	}
	if len(s.When) > 0 && !slices.ContainsFunc(s.Needs, func(need *plan.Step) bool { return pending[need] }) {
		missing, err := MissingFiles(c.Files, s)
		if missing != "" || err != nil {
			f.Action, f.Reasons = Skip, reason("skip", missing)
			return false, err
		}
		if s.Task.When.Run.Value == "" {
			return false, nil
		}
	}
	if f.Action != UpToDate {
		f.Action = Maybe
		f.Reasons = append(reason("when", "its condition is checked when its needs have ended"), f.Reasons...)
	}
	return true, nil
}

// applyVariables makes a decision uncertain that rests on variables which were
// not computed.
func (f *StepPreview) applyVariables() {
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

// applyWriters makes a decision uncertain that rests on files which an earlier step
// may still write.
func (f *StepPreview) applyWriters(pending map[*plan.Step]bool, restores map[*plan.Step]string) error {
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
