package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/zeebo/blake3"
)

// hashers and readBuffers are used again: most files are small.
var (
	hashers     = sync.Pool{New: func() any { return blake3.New() }}
	readBuffers = sync.Pool{New: func() any { buf := make([]byte, 128<<10); return &buf }}
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

// readers is how many files of one folder are read at once. Measured on two
// cores: more gain nothing.
const readers = 2

// hashAll makes the digests of entries of f, which is locked. Those that are
// gone are left without one.
func (t *Tree) hashAll(f *folder, entries []*entry) error {
	unknown := slices.DeleteFunc(slices.Clone(entries), func(e *entry) bool { return e.hashed })
	if len(unknown) == 0 {
		return nil
	}
	t.clock()
	errs := make([]error, readers)
	var wg sync.WaitGroup
	for r := range readers {
		wg.Go(func() {
			for i := r; i < len(unknown) && errs[r] == nil; i += readers {
				if err := t.hash(f, unknown[i]); !errors.Is(err, fs.ErrNotExist) {
					errs[r] = err
				}
			}
		})
	}
	wg.Wait()
	t.learned()
	return errors.Join(errs...)
}

// hash reads the file of e.
func (t *Tree) hash(f *folder, e *entry) error {
	now := t.clock()
	name := t.absolute(f, e.name)
	if e.kind == Link {
		return t.hashLink(e, name)
	}
	digest, size, after, err := hashFile(name)
	if err != nil {
		return err
	}
	e.digest, e.hashed = digest, true
	// A file that grew or changed while it was being read is not known for sure.
	e.sure = after == e.stamp && size == e.size && e.isSure(now)
	if after != e.stamp {
		e.stamp = after
	}
	return nil
}

// hashLink makes the digest of a link: of its text and, if it leads to a file,
// of that file's content. It is never sure, for the file may change without it.
func (t *Tree) hashLink(e *entry, name string) error {
	text, err := os.Readlink(name)
	if err != nil {
		return err
	}
	h := blake3.New()
	io.WriteString(h, filepath.ToSlash(text)) // never fails
	if info, err := os.Stat(name); err == nil && info.Mode().IsRegular() {
		digest, _, _, err := hashFile(name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		h.Write(digest[:])
	}
	h.Sum(e.digest[:0])
	e.hashed, e.sure = true, false
	return nil
}

// hashFile returns the digest and the size of a file's content, and its stamp
// when it had been read.
func hashFile(name string) (d Digest, size int64, after stamp, err error) {
	file, err := openRaw(name)
	if err != nil {
		return d, 0, after, err
	}
	defer file.close()
	buf := readBuffers.Get().(*[]byte)
	defer readBuffers.Put(buf)
	h := hashers.Get().(*blake3.Hasher)
	defer hashers.Put(h)
	h.Reset()
	for {
		n, err := file.read(*buf)
		h.Write((*buf)[:n])
		size += int64(n)
		if err == io.EOF || n == 0 && err == nil {
			h.Sum(d[:0])
			return d, size, file.stamp(), nil
		}
		if err != nil {
			return d, size, after, &fs.PathError{Op: "read", Path: name, Err: err}
		}
	}
}

// Sum returns the digest of a text.
func Sum(text []byte) Digest { return blake3.Sum256(text) }
