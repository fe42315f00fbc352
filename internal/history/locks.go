package history

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"tugline/internal/atomicfile"
)

// retryLock is how often a lock is tried that somebody else holds.
const retryLock = 20 * time.Millisecond

// Lock makes sure that a call runs once at a time, in all processes. When it
// has to wait, it calls waiting first. When ctx is done it gives up. unlock is
// to be called at the end.
func (l *Ledger) Lock(ctx context.Context, id string, waiting func()) (unlock func(), err error) {
	lock := lockFile(filepath.Join(l.folder, "locks", id))
	return wait(ctx, lock, lock.TryLock, waiting)
}

// Share is [Ledger.Lock] for many holders at once, which only keep those out
// that lock alone.
func (l *Ledger) Share(ctx context.Context, id string, waiting func()) (unlock func(), err error) {
	lock := lockFile(filepath.Join(l.folder, "locks", id))
	return wait(ctx, lock, lock.TryRLock, waiting)
}

// LockAmongReaders is [Ledger.Lock] for who does not mind those that share the
// lock: a task that does calls it, and waits for it.
func (l *Ledger) LockAmongReaders(ctx context.Context, id string, waiting func()) (unlock func(), err error) {
	lock := lockFile(filepath.Join(l.folder, "locks", id))
	return wait(ctx, lock, func() (bool, error) {
		if taken, err := lock.TryLock(); taken || err != nil {
			return taken, err
		}
		return lock.TryRLock()
	}, waiting)
}

// TryLock is [Ledger.Lock] for who does not wait. taken is false if somebody
// else holds the lock, or it cannot be had.
func (l *Ledger) TryLock(id string) (unlock func(), taken bool) {
	lock := lockFile(filepath.Join(l.folder, "locks", id))
	if taken, err := lock.TryLock(); err != nil || !taken {
		return nil, false
	}
	return func() { lock.Unlock() }, true // fails only for a lock that is gone
}

// lockFile returns the lock at path. A link there is removed: locking would make
// a file where it leads to.
func lockFile(path string) *flock.Flock {
	if info, err := os.Lstat(path); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		os.Remove(path) // if that fails, so does locking
	}
	return flock.New(path, flock.SetFlag(os.O_CREATE|os.O_RDWR|atomicfile.NoFollow))
}

func wait(ctx context.Context, lock *flock.Flock, try func() (bool, error), waiting func()) (unlock func(), err error) {
	told := false
	for {
		taken, err := try()
		if err != nil {
			return nil, fmt.Errorf("waiting for another Tugline: %w", err)
		}
		if taken {
			return func() { lock.Unlock() }, nil // fails only for a lock that is gone
		}
		if !told {
			told = true
			waiting()
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("waiting for another Tugline: %w", context.Cause(ctx))
		case <-time.After(retryLock):
		}
	}
}
