package files

import (
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync"

	"github.com/zeebo/blake3"
)

// hashers and readBuffers are used again: most files are small.
var (
	hashers     = sync.Pool{New: func() any { return blake3.New() }}
	readBuffers = sync.Pool{New: func() any { buf := make([]byte, 128<<10); return &buf }}
)

// readers is how many files of one folder are read at once. Measured on two
// cores: more gain nothing.
const readers = 2

// readAlone is how many files are worth a second reader: starting one takes as
// long as reading a few small files.
const readAlone = 4

// hashAll makes the digests of entries of f, which is locked. Those that are
// gone are left without one. What it reads is kept in texts, if that is not nil.
func (t *Tree) hashAll(f *folder, h *handle, entries []*entry, texts *texts) error {
	var unknown []int
	for i, e := range entries {
		if !e.hashed {
			unknown = append(unknown, i)
		}
	}
	if len(unknown) == 0 {
		return nil
	}
	f.changed()
	t.clock()
	dir, err := h.get()
	if err != nil {
		return ignoringGone(err)
	}
	t.learned()
	errs := make([]error, readers)
	read := func(r, step int) {
		for k := r; k < len(unknown) && errs[r] == nil; k += step {
			i := unknown[k]
			var keep func(text []byte)
			if texts != nil {
				keep = func(text []byte) { texts.keep(i, text) }
			}
			if err := t.hash(f, dir, entries[i], keep); err != nil && !errors.Is(err, fs.ErrNotExist) {
				errs[r] = fmt.Errorf("reading a file of %s: %w", cmp.Or(f.path, "the top folder"), err)
			}
		}
	}
	if len(unknown) < readAlone {
		read(0, 1)
		return errs[0]
	}
	var wg sync.WaitGroup
	for r := range readers {
		wg.Go(func() { read(r, readers) })
	}
	wg.Wait()
	return errors.Join(errs...)
}

// ignoringGone returns err, unless it says that a folder is gone: so are its
// files.
func ignoringGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// hash reads the file of e, which stands in the open folder dir. keep may be nil;
// it is called with the content of a small file, and must not keep the slice.
func (t *Tree) hash(f *folder, dir openFolder, e *entry, keep func(text []byte)) error {
	now := t.clock() // before it is opened
	switch e.kind {
	case File:
	case Link:
		return t.hashLink(f, e)
	default:
		return fs.ErrNotExist // it is no file any more
	}
	file, err := dir.open(e.name)
	if err != nil {
		return err
	}
	digest, size, after, err := file.digest(keep)
	if err != nil {
		return err
	}
	if after.kind != File {
		return fs.ErrNotExist
	}
	// What was changed while it was being read is younger than now, and not sure.
	e.digest, e.hashed, e.reliable = digest, true, size == after.size && after.isSure(now)
	e.stamp = after
	return nil
}

// hashLink makes the digest of a link of f: of its text and, if it leads to a
// file, of that file's content. It is never sure, for the file may change without it.
func (t *Tree) hashLink(f *folder, e *entry) error {
	name := t.absolute(f, e.name)
	text, err := os.Readlink(name)
	if err != nil {
		return err
	}
	h := blake3.New()
	io.WriteString(h, filepath.ToSlash(text)) // never fails
	behind, err := hashBehind(h, name)
	if err != nil {
		return err
	}
	h.Sum(e.digest[:0])
	e.hashed, e.reliable = true, false
	t.mu.Lock() // several links of f may be read at once
	defer t.mu.Unlock()
	if f.behind == nil {
		f.behind = map[string]*stamp{}
	}
	f.behind[e.name] = behind
	return nil
}

// hashBehind adds the digest of the file to which a link leads, and returns the
// stamp of that file; nil if there is none.
func hashBehind(h io.Writer, link string) (*stamp, error) {
	if info, err := os.Stat(link); err != nil || !info.Mode().IsRegular() {
		return nil, nil
	}
	target, err := filepath.EvalSymlinks(link)
	if err != nil {
		return nil, ignoringGone(err)
	}
	dir, err := openDir(filepath.Dir(target), true)
	if err != nil {
		return nil, ignoringGone(err)
	}
	defer dir.close()
	file, err := dir.open(filepath.Base(target))
	if err != nil {
		return nil, ignoringGone(err)
	}
	digest, _, after, err := file.digest(nil)
	if err != nil {
		return nil, err
	}
	h.Write(digest[:]) // never fails
	return &after, nil
}

// digest returns the digest and the size of a file's content, and its stamp when
// it had been read. It closes the file. keep is as for hash.
func (file rawFile) digest(keep func(text []byte)) (d Digest, size int64, after stamp, err error) {
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
		if err != nil && err != io.EOF {
			return d, size, after, err
		}
		if n < len(*buf) { // the end, as the size in the stamp confirms
			h.Sum(d[:0])
			if keep != nil && size == int64(n) {
				keep((*buf)[:n])
			}
			return d, size, file.stamp(), nil
		}
	}
}

// content returns what a file of the folder holds, with room for found.Size.
func (dir openFolder) content(found *Found) ([]byte, error) {
	file, err := dir.open(path.Base(found.Path))
	if err != nil {
		return nil, err
	}
	defer file.close()
	text := make([]byte, found.Size+1) // one more, to see that it has grown
	size := 0
	for size < len(text) {
		n, err := file.read(text[size:])
		size += n
		if err == io.EOF || n == 0 && err == nil {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	return text[:size], nil
}

// Reader reads small files, most of which stand in the folder of the one before.
type Reader struct {
	Top  string // absolute
	dir  openFolder
	path string
	open bool
}

// Read returns the content of a file as it was found. What is longer than
// found.Size may be cut.
func (r *Reader) Read(found *Found) ([]byte, error) {
	folder := path.Dir(found.Path)
	if !r.open || r.path != folder {
		r.Close()
		dir, err := openDir(filepath.Join(r.Top, filepath.FromSlash(folder)), true)
		if err != nil {
			return nil, err
		}
		r.dir, r.path, r.open = dir, folder, true
	}
	return r.dir.content(found)
}

// Close ends the use of r.
func (r *Reader) Close() {
	if r.open {
		r.dir.close()
		r.open = false
	}
}

// String returns d in hexadecimal digits.
func (d Digest) String() string { return hex.EncodeToString(d[:]) }

// Sum returns the digest of a text.
func Sum(text []byte) Digest { return blake3.Sum256(text) }
