package session

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/fingerprint"
	"tugline/internal/glob"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/watch"
)

// Watching says how a watch is to go.
type Watching struct {
	Lull  time.Duration // how long files must be quiet before a round starts
	Poll  time.Duration // scan so often instead of asking the system; 0: ask the system
	Stop  bool          // a change stops the round that runs
	Words Words
	// Reload reads the project file again, and what is asked of it.
	Reload func() (Reloaded, error)
	// Agree is asked before a round of a plan starts whether it may. The error is
	// shown, and the round is not made.
	Agree    func(p *plan.Plan) error
	Shower   Shower
	Commands <-chan Command // may be nil
}

// Reloaded is a project that was read again.
type Reloaded struct {
	Project *project.Project
	Base    *project.File
	Request Request
}

// Shower is shown what happens in a watch. All is called from one goroutine but for
// the sink of a round, which is called while the round runs.
type Shower interface {
	// Round is told of a round that may do something. The sink gets its events once
	// it does.
	Round(run *Run, changed []string) How
	// Service is told what happens to a service between two rounds.
	Service(e engine.Event)
	// Ended is told how a round ended that did something.
	Ended(summary engine.Summary, err error)
	// Waiting is told that the next change is waited for.
	Waiting(paused bool)
	// Problem is told why there is no round: the error of a plan, or of a project file.
	Problem(err error)
	// Note is told what there is to say besides.
	Note(text string)
}

// Command is what a user asks of a watch while it goes on.
type Command int

// The commands of a watch.
const (
	RunAgain Command = iota // look at everything again
	RunAll                  // run all tasks of the plan, even if unchanged
	Pause                   // start no round until the next Pause
)

// errRestart is the cause of a round's end when files changed while it ran.
var errRestart = errors.New("files changed")

// rounds is a watch that goes on.
type rounds struct {
	*Session
	w       Watching
	watcher *watch.Watcher
	request Request

	before  *Reloaded         // what was in force before the project file was read again; nil: nothing is new
	watched string            // the scope, as a key
	ended   map[string]string // the sums of the steps that ended well, by their IDs
	changed []string          // why there is a round
	named   []string          // of changed, what is told
	writes  *glob.Sets        // what the steps of the last round write
	broken  *glob.Sets        // what those write that did not end well
	outputs outputs
	acted   bool // the last round did something

	listed  map[string][]string // by the ID of a step: what its depfile listed last
	again   bool                // another round is to follow at once
	repeats int                 // how many have done that in a row
	saved   time.Time           // when what is the reason for this round changed last
	paused  bool
	streak  streak
}

// Watch runs a request, and again whatever a change touches, until ctx is done.
// The error is that of the first plan, or ctx's cause.
func (s *Session) Watch(ctx context.Context, r Request, w Watching) error {
	k := &rounds{Session: s, w: w, request: r, ended: map[string]string{}}
	k.watcher = watch.Open(watch.Options{Top: s.Project.Folder, Lull: w.Lull, Poll: w.Poll, Warn: s.cfg.Warn})
	defer k.watcher.Close()
	s.services = engine.NewServices()
	s.services.Keep, s.services.Calm = true, k.calm
	defer func() { s.services.End(context.Cause(ctx), func(e engine.Event) { w.Shower.Service(e) }) }()
	defer func() {
		if s.Ledger.Create() == nil {
			s.Files().Save(s.Ledger.Folder()) // else they are read again next time
		}
	}()
	first := true
	for {
		err := k.round(ctx, first)
		switch {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case err != nil && first:
			return err
		case err != nil:
			w.Shower.Problem(err)
		}
		first = false
		if k.again { // what was listed may have changed before it was watched
			k.again, k.changed, k.named = false, nil, nil
			k.Files().InvalidateAll()
			continue
		}
		if err := k.wait(ctx); err != nil {
			return err
		}
	}
}

// round makes a plan and runs it.
func (k *rounds) round(ctx context.Context, first bool) error {
	k.cfg.Run = history.RoundName(NewRunName(), k.cfg.Run)
	r := k.request
	r.Changed = k.named
	prepared, err := k.prepare(ctx, r, first || k.before != nil)
	if err == nil && k.watch(prepared.Plan) {
		// What was asked of files before they were watched may have changed since.
		k.Files().InvalidateAll()
		if k.sources.changed(k.Files()) {
			prepared, err = k.prepare(ctx, r, false)
		}
	}
	if err == nil {
		err = k.w.Agree(prepared.Plan)
	}
	if err != nil {
		if k.before != nil {
			k.Project, k.Base, k.request = k.before.Project, k.before.Base, k.before.Request
		}
		return err
	}
	k.before = nil
	run := k.beginQuiet(prepared, k.w.Words)
	if first {
		run.quiet = false
		run.record()
	} else if run.cache != nil {
		run.cache.Round = &cache.Round{Ended: k.endedWell, Touched: k.touched}
	}
	summary, err := k.run(ctx, run)
	k.acted = run.acted || !run.quiet
	if k.acted {
		k.w.Shower.Ended(summary, err)
	}
	if failures := summary.Failures(); len(failures) > 0 {
		k.services.Tell(failures[0].Step.Name, run.lastLines(failures[0]))
	} else if err == nil {
		k.services.Refresh()
	}
	k.note(run.Plan, summary)
	k.noteListed(run)
	// It may have more steps now, or depfiles that list more.
	if changed := k.watch(run.Plan); changed && len(k.listed) > 0 && k.repeats < maxRepeats {
		k.repeats++
		k.again = true
	} else {
		k.repeats = 0
	}
	k.streak.end = time.Now()
	k.request.Force, k.request.ForceNeeds = false, false
	if errors.Is(err, errRestart) {
		return nil
	}
	return err
}

// run runs a round.
func (k *rounds) run(ctx context.Context, run *Run) (engine.Summary, error) {
	how := k.w.Shower.Round(run, k.named)
	if !k.w.Stop {
		return run.Do(ctx, how)
	}
	ctx, stop := context.WithCancelCause(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		k.stopOnChange(ctx, stop)
	}()
	summary, err := run.Do(ctx, how)
	stop(nil)
	<-done
	return summary, err
}

// stopOnChange stops a round when something changes that its steps do not write.
func (k *rounds) stopOnChange(ctx context.Context, stop context.CancelCauseFunc) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-k.watcher.Settled():
		}
		c := k.watcher.Peek()
		if c.Lost || slices.ContainsFunc(c.Paths, func(p string) bool { return !k.writes.Match(p) }) {
			k.watcher.Settle()
			stop(errRestart)
			return
		}
	}
}

// maxRepeats is how many rounds may follow one another since depfiles list other files each
// time.
const maxRepeats = 3

// noteListed notes what depfiles listed in a round, also where that was not recorded.
func (k *rounds) noteListed(run *Run) {
	for _, s := range run.Plan.Steps {
		if s.Depfile == "" || run.cache == nil {
			continue
		}
		if k.listed == nil {
			k.listed = map[string][]string{}
		}
		k.listed[s.ID()] = run.cache.LastListed(s)
	}
}

// note notes how the steps of a round ended.
func (k *rounds) note(pl *plan.Plan, summary engine.Summary) {
	var broken [][]glob.Pattern
	for _, r := range summary.Results {
		if r.Step == nil || !r.Step.Works {
			continue
		}
		s := pl.Steps[r.Step.Index]
		switch r.State {
		case engine.Ran, engine.Restored, engine.Unchanged:
			k.ended[s.ID()] = r.Sum
			if r.State != engine.Unchanged && len(s.Writes) > 0 {
				k.outputs.note(s.ID())
			}
		default:
			delete(k.ended, s.ID())
			broken = append(broken, plan.Patterns(s.Writes))
		}
	}
	k.broken = sets(broken)
}

// sets returns the sets of lists of patterns that a plan has checked.
func sets(lists [][]glob.Pattern) *glob.Sets {
	s, err := glob.NewSets(lists)
	if err != nil {
		panic(err)
	}
	return s
}

func (k *rounds) endedWell(s *plan.Step) (string, bool) {
	sum, well := k.ended[s.ID()]
	return sum, well
}

// touched reports whether one of the files that changed is meant by globs.
func (k *rounds) touched(globs []plan.Glob) bool {
	if len(globs) == 0 || len(k.changed) == 0 {
		return false
	}
	meant := sets([][]glob.Pattern{plan.Patterns(globs)})
	return slices.ContainsFunc(k.changed, func(p string) bool { return meant.Match(p) || meant.Below(p, false) })
}

// wait returns when there is a reason for another round. The error says why there is
// none any more.
func (k *rounds) wait(ctx context.Context) error {
	k.changed, k.named = nil, nil
	for {
		if pending := k.watcher.Peek(); k.paused || pending.Empty() {
			k.w.Shower.Waiting(k.paused)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case e := <-k.services.Events():
			k.w.Shower.Service(e)
		case c := <-k.w.Commands:
			if k.command(c) {
				return nil
			}
		case <-k.watcher.Settled():
			if k.paused || !k.take() {
				continue
			}
			if !k.streak.isSuspect() {
				return nil
			}
			// A task may change what it reads. It is left alone for a while: who else
			// changes it now is no task.
			if err := k.idle(ctx, max(alone, 2*k.w.Poll)); err != nil {
				return err
			}
			k.take()
			return nil
		}
	}
}

// idle lets time pass.
func (k *rounds) idle(ctx context.Context, d time.Duration) error {
	for over := time.After(d); ; {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case e := <-k.services.Events():
			k.w.Shower.Service(e)
		case <-over:
			return nil
		}
	}
}

// restartPause is how long after a save a service is started again at the earliest:
// between two saves in a second there is one restart.
const restartPause = time.Second

// calm waits until a service may be started again. It reports false if something
// changed in the meantime: the next round will do it.
func (k *rounds) calm(ctx context.Context) bool {
	select {
	case <-time.After(time.Until(k.saved.Add(restartPause))):
	case <-ctx.Done():
		return false
	}
	pending := k.watcher.Peek()
	return !slices.ContainsFunc(pending.Paths, func(p string) bool { return !k.writes.Match(p) })
}

// command does what the user asks, and reports whether there is a round to make.
func (k *rounds) command(c Command) (again bool) {
	switch c {
	case Pause:
		k.paused = !k.paused
		return !k.paused && k.take()
	case RunAll:
		k.request.ForceNeeds = true
	}
	k.take()
	clear(k.ended)
	k.Files().InvalidateAll()
	return true
}

// take takes what changed, and reports whether a round is to be made of it.
func (k *rounds) take() bool {
	c := k.watcher.Take()
	passing := k.passing(c.Paths) // before the tree forgets
	if c.Lost {
		k.Files().InvalidateAll()
	} else {
		k.Files().Invalidate(slices.Concat(c.Paths, c.Unsure, c.Other), k.watcher.IsWatched)
	}
	paths := c.Paths
	if len(paths) == 0 {
		paths = c.Unsure
	}
	paths = slices.DeleteFunc(paths, k.isOwn)
	if slices.ContainsFunc(paths, k.isProjectFile) {
		paths = k.reload(paths)
	}
	if len(paths) == 0 && !c.Lost {
		return false
	}
	k.changed, k.named = append(k.changed, paths...), append(k.named, worthNaming(paths, passing)...)
	k.saved = c.Last
	during := k.acted && len(paths) > 0 && c.Last.Before(k.streak.end.Add(max(noticeTime, 3*k.w.Poll/2)))
	if file := k.streak.add(slices.DeleteFunc(slices.Clone(paths), k.writes.Match), during); file != "" {
		k.w.Shower.Note(fmt.Sprintf("%s changed during three rounds in a row: a task seems to change what it reads. It runs again when something else changes", file))
		k.changed, k.named = nil, nil
		return false
	}
	return true
}

// passing returns those of paths that were not there when the tree last looked and are
// gone again, as the temporary files of editors are.
func (k *rounds) passing(paths []string) map[string]bool {
	passing := map[string]bool{}
	for _, p := range paths {
		if _, err := os.Lstat(filepath.Join(k.Project.Folder, filepath.FromSlash(p))); err != nil && !k.Files().Knows(p) {
			passing[p] = true
		}
	}
	return passing
}

// worthNaming returns the paths of a change, which are sorted, without what says
// nothing beside the others: folders of others, and what was passing.
func worthNaming(paths []string, passing map[string]bool) []string {
	var named []string
	for i, p := range paths {
		if !passing[p] && (i+1 == len(paths) || !strings.HasPrefix(paths[i+1], p+"/")) {
			named = append(named, p)
		}
	}
	if len(named) == 0 {
		return paths
	}
	return named
}

// reload reads the project file again. If it is broken, the old one stays in force,
// and it is no reason for a round. It returns the paths that are one.
func (k *rounds) reload(paths []string) []string {
	reloaded, err := k.w.Reload()
	if err != nil {
		k.w.Shower.Problem(err)
		return slices.DeleteFunc(paths, k.isProjectFile)
	}
	if k.before == nil {
		k.before = &Reloaded{k.Project, k.Base, k.request}
	}
	k.Project, k.Base, k.request = reloaded.Project, reloaded.Base, reloaded.Request
	k.request.Force, k.request.ForceNeeds = false, false // that was for the first round
	return paths
}

// isOwn reports whether a file is as a step of this watch left it.
func (k *rounds) isOwn(p string) bool {
	if !k.writes.Match(p) {
		return false
	}
	if k.broken.Match(p) {
		return true // of a step that runs again in any case
	}
	mark, known := k.outputs.mark(k.Ledger, p)
	if !known {
		return false
	}
	found, err := k.Files().Match(set([]glob.Pattern{{Text: glob.Escape(p)}}))
	if err != nil || len(found) != 1 {
		return false
	}
	return fingerprint.Files(found)[0].Mark == mark
}

// set returns the set of patterns that a plan has checked.
func set(patterns []glob.Pattern) *glob.Set {
	s, err := glob.Compile(patterns)
	if err != nil {
		panic(err)
	}
	return s
}

// outputs are what steps made in a watch.
type outputs struct {
	marks  map[string]made // by path
	unread map[string]bool // the IDs of the steps whose records were not read yet
}

type made struct{ step, mark string }

// note notes that a step made something.
func (o *outputs) note(step string) {
	if o.unread == nil {
		o.marks, o.unread = map[string]made{}, map[string]bool{}
	}
	o.unread[step] = true
}

// mark returns the mark of a file that a step made.
func (o *outputs) mark(ledger *history.Ledger, p string) (string, bool) {
	if len(o.unread) > 0 {
		maps.DeleteFunc(o.marks, func(_ string, m made) bool { return o.unread[m.step] })
		for step := range o.unread {
			record, _ := ledger.Read(step) // without one, it made nothing
			for _, f := range record.Outputs {
				o.marks[f.Path] = made{step, f.Mark}
			}
		}
		clear(o.unread)
	}
	m, known := o.marks[p]
	return m.mark, known
}

// How a task is found that changes what it reads.
const (
	alone      = time.Second          // nobody else changes it for so long
	noticeTime = 5 * time.Millisecond // a notice comes at most so late
	maxStreak  = 3
)

// streak counts rounds in a row during each of which the same file changed, and
// between which nothing did.
type streak struct {
	files map[string]bool
	count int
	end   time.Time // of the last round
}

// isSuspect reports whether one more such round is enough.
func (s *streak) isSuspect() bool { return s.count == maxStreak-1 }

// add adds what is the reason for the next round: whether it changed during the last
// one alone. It returns a file that changed in too many rounds; empty: none did.
func (s *streak) add(paths []string, during bool) string {
	now := map[string]bool{}
	for _, p := range paths {
		if s.count == 0 || s.files[p] {
			now[p] = true
		}
	}
	switch {
	case !during || len(paths) == 0:
		s.count, s.files = 0, nil
		return ""
	case len(now) == 0:
		s.count, s.files = 0, nil
		return s.add(paths, during)
	}
	s.count++
	s.files = now
	if s.count < maxStreak {
		return ""
	}
	s.count, s.files = 0, nil
	return slices.Sorted(maps.Keys(now))[0]
}
