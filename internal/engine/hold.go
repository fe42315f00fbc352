package engine

import (
	"context"
	"fmt"

	"tugline/internal/plan"
)

// held is a lock that is held in this run.
type held struct {
	by     *plan.Step // from its start to the end of its Whole
	inside *plan.Step // the step that runs for it and has the lock itself; nil: none
}

// hold takes what s needs to run: its locks, and a place among the instances
// of its task. It returns for what it has to wait, and takes nothing then.
func (l *loop) hold(s *plan.Step) (waitsFor string) {
	if s.Limit != nil && l.inUse[s.Limit] >= *s.Limit {
		return fmt.Sprintf("waits for another instance of %q to end", s.Task.Name)
	}
	for _, name := range s.Locks {
		h := l.locks[name]
		if h != nil && (h.inside != nil || !within(h.by, s)) {
			return fmt.Sprintf("waits for the lock %q, which %q holds", name, h.by.Name)
		}
	}
	for _, name := range s.Locks {
		if h := l.locks[name]; h != nil {
			h.inside = s
			continue
		}
		l.locks[name] = &held{by: s}
	}
	if s.Limit != nil {
		l.inUse[s.Limit]++
	}
	if len(s.Locks) > 0 || s.Limit != nil {
		end := s
		if s.Whole != nil {
			end = s.Whole
		}
		l.holders[end] = s
	}
	return ""
}

// within reports whether s runs for a step that holds a lock: that one's Whole
// waits for it.
func within(by, s *plan.Step) bool { return by.Whole != nil && s.Precedes(by.Whole) }

// release gives back what ends with s.
func (l *loop) release(s *plan.Step) {
	holder := l.holders[s]
	if holder == nil {
		return
	}
	delete(l.holders, s)
	if unlock := l.unlocks[holder]; unlock != nil {
		unlock()
		delete(l.unlocks, holder)
	}
	for _, name := range holder.Locks {
		switch h := l.locks[name]; {
		case h == nil:
		case h.by == holder:
			delete(l.locks, name)
		case h.inside == holder:
			h.inside = nil
		}
	}
	if holder.Limit != nil {
		l.inUse[holder.Limit]--
	}
	for _, other := range l.held {
		l.ready.push(other)
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
	if l.cfg.Memory == nil {
		return unlock, nil
	}
	for _, name := range names {
		u, err := l.cfg.Memory.Ledger.Lock(ctx, "name."+name, func() {
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
