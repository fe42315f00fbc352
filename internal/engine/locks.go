package engine

import (
	"context"
	"fmt"
	"slices"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// holders are the steps that hold a lock, each from its start to the end of its
// last step: the first of them, then one that runs for it and has the lock itself,
// then one that runs for that one, and so on.
type holders []*plan.Step

// last returns the innermost holder; nil if there is none.
func (h holders) last() *plan.Step {
	if len(h) == 0 {
		return nil
	}
	return h[len(h)-1]
}

// hold takes what s needs to run: its locks, and a place among the instances
// of its task. It returns for what it has to wait, and takes nothing then.
func (l *loop) hold(s *plan.Step) (waitsFor string) {
	if s.Limited && l.inUse[s.Task] >= s.Task.AtOnce {
		return fmt.Sprintf("waits for another instance of %q to end", s.Task.Name)
	}
	for _, name := range s.Locks {
		if last := l.locks[name].last(); last != nil && !l.within(last, s) {
			return fmt.Sprintf("waits for the lock %q, which %q holds", name, last.Name)
		}
	}
	for _, name := range s.Locks {
		l.locks[name] = append(l.locks[name], s)
	}
	end := s
	if s.Last != nil {
		end = s.Last
	}
	if s.Limited {
		l.takePlace(s, end)
	}
	if len(s.Locks) > 0 {
		l.holders[end] = s
	}
	return ""
}

// place is one among the instances of a task that run at the same time. It is
// given back when the instance has ended and been cleaned up after.
type place struct {
	task *project.Task
	open int // how many steps have not ended with which it is given back
}

func (l *loop) takePlace(s, end *plan.Step) {
	l.inUse[s.Task]++
	p := &place{task: s.Task}
	for _, last := range append([]*plan.Step{end}, s.Cleanup...) {
		if l.state[last.Index] == "" {
			p.open++
			l.places[last] = append(l.places[last], p)
		}
	}
}

// leavePlaces gives back what ends with s.
func (l *loop) leavePlaces(s *plan.Step) {
	for _, p := range l.places[s] {
		if p.open--; p.open == 0 {
			l.inUse[p.task]--
			l.retryHeld()
		}
	}
	delete(l.places, s)
}

// within reports whether s runs for a step that holds a lock: the last step of
// that one waits for it, and its own commands have ended.
func (l *loop) within(by, s *plan.Step) bool {
	return by.Last != nil && (!by.Works() || l.state[by.Index] != "") && s.Precedes(by.Last)
}

// release gives back what ends with s.
func (l *loop) release(s *plan.Step) {
	l.leavePlaces(s)
	holder := l.holders[s]
	if holder == nil {
		if len(s.Locks) > 0 { // what runs for it may take them now
			l.retryHeld()
		}
		return
	}
	delete(l.holders, s)
	if unlock := l.unlocks[holder]; unlock != nil {
		unlock()
		delete(l.unlocks, holder)
	}
	for _, name := range holder.Locks {
		l.locks[name] = slices.DeleteFunc(l.locks[name], func(s *plan.Step) bool { return s == holder })
	}
	l.retryHeld()
}

// retryHeld makes ready again what waits for what others hold.
func (l *loop) retryHeld() {
	for _, s := range l.held {
		l.ready.push(s)
	}
	l.held = nil
}

// lockFiles takes the locks of s that other Tuglines respect, but for those
// that a step holds for which s runs.
func (l *loop) lockFiles(ctx context.Context, s *plan.Step, names []string) (unlock func(), err error) {
	var unlocks []func()
	unlock = func() {
		for _, u := range unlocks {
			u()
		}
	}
	if l.cfg.Cache == nil {
		return unlock, nil
	}
	for _, name := range names {
		u, err := l.cfg.Cache.Ledger.Lock(ctx, "name."+name, func() {
			l.wait(s, fmt.Sprintf("waits for the lock %q, which another Tugline holds", name))
		})
		if err != nil {
			unlock()
			return nil, err
		}
		unlocks = append(unlocks, u)
	}
	return unlock, nil
}
