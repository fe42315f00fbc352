package files

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"tugline/internal/atomicfile"
)

// How old the times of a file must be when it is read, so that a later change
// cannot leave them as they are. Systems keep times in ticks of at most 10 ms,
// some file systems in steps of up to 2 s; those give whole seconds.
const (
	tick      = int64(100 * time.Millisecond)
	wholeTick = int64(2500 * time.Millisecond)
)

// isSure reports whether a file that was read at now, by the clock of its file
// system, can only have changed since if its stamp has.
//
// A write always moves the times, but not if they stand at the same tick
// already: a file that was written, read and written again within one tick
// looks as if it had been read last. So a file that was young when it was read
// is read again next time. The time of change cannot be set back by a program,
// as the time of modification can.
func (s *stamp) isSure(now int64) bool {
	latest := max(s.modified, s.changed)
	margin := tick
	if latest%int64(time.Second) == 0 {
		margin = wholeTick
	}
	return now-latest > margin
}

// Clock makes t ask the file system below the folder kept for the time, by
// which it can tell which files are old enough to be known for sure. The
// folder must be there, and in the file system of the project.
func (t *Tree) Clock(kept string) { t.clockFile = filepath.Join(kept, "clock") }

// clock returns a time in this generation by the clock of the file system; 0
// if there is none.
func (t *Tree) clock() int64 {
	if t.clockFile == "" {
		return 0
	}
	gen := t.generation.Load()
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.nowIn != gen {
		t.now, t.nowIn = 0, gen
		if err := touch(t.clockFile); err == nil {
			s := stampOf(t.clockFile)
			t.now = s.modified
		}
	}
	return t.now
}

// touch writes a byte into a file, over the one that is there: emptying a file
// first makes some file systems write it out at once.
func touch(name string) error {
	file, err := atomicfile.Open(name, os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	_, err = file.Write([]byte("\n"))
	return errors.Join(err, file.Close())
}
