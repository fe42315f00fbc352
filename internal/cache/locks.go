package cache

import (
	"context"
	"slices"

	"tugline/internal/plan"
)

// maxShared is how many locks of others a step shares at most: each is an open
// file. Beyond it, that something changed while the step ran is only seen afterwards.
const maxShared = 32

// Acquire makes sure that a step runs once at a time in all Tuglines, and that no
// other one makes what it reads meanwhile. waiting is told for what it waits;
// waited tells whether it had to.
//
// The locks of what it reads come first, then its own. So a Tugline that waits
// for a lock holds only those of steps further down: nobody waits in a circle.
func (c *Cache) Acquire(ctx context.Context, s *plan.Step, waiting func(what string)) (unlock func(), waited bool, err error) {
	var unlocks []func()
	unlock = func() {
		for _, u := range unlocks {
			u()
		}
	}
	tell := func(what string) func() {
		return func() {
			waited = true
			waiting(what)
		}
	}
	if !c.Nested {
		for _, id := range sharedIDs(s) {
			u, err := c.Ledger.Share(ctx, id, tell("waiting for another Tugline that writes its inputs"))
			if err != nil {
				unlock()
				return nil, waited, err
			}
			unlocks = append(unlocks, u)
		}
	}
	lock := c.Ledger.Lock
	if c.Nested { // the one that called us may read what we write
		lock = c.Ledger.LockAmongReaders
	}
	u, err := lock(ctx, s.ID(), tell("waiting for another Tugline that runs it or reads its outputs"))
	if err != nil {
		unlock()
		return nil, waited, err
	}
	unlocks = append(unlocks, u)
	return unlock, waited, nil
}

// sharedIDs returns the steps that make what s reads, sorted, if they are few.
func sharedIDs(s *plan.Step) []string {
	writers := s.Writers()
	if len(writers) > maxShared {
		return nil
	}
	ids := make([]string, 0, len(writers))
	for _, w := range writers {
		if w.ID() != s.ID() { // a formatter reads what it writes
			ids = append(ids, w.ID())
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}
