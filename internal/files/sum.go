package files

import (
	"io/fs"
	"path"
	"strings"
	"sync"

	"github.com/zeebo/blake3"

	"tugline/internal/glob"
)

// Sum returns what tells the files that set means, with their kinds, modes and
// contents, from others. It costs less than asking for the files.
func (t *Tree) Sum(set *glob.Set) (Digest, error) {
	s := newSumming()
	defer s.free()
	err := t.walk(set, s.addFolder)
	return s.digest(), err
}

// SumOutputs is [Tree.Sum] for what a task has written, as [Tree.Outputs] finds it.
func (t *Tree) SumOutputs(set *glob.Set) (Digest, error) {
	s := newSumming()
	defer s.free()
	w := &walker{tree: t, set: set, found: s.addFolder, empty: func(f *folder) { s.add(f.path, Folder, 0, &Digest{}) }}
	err := w.walk(t.folder("", false), set.Start())
	return s.digest(), err
}

// MatchAndSum returns what [Tree.Match] and [Tree.Sum] would, in one walk.
func (t *Tree) MatchAndSum(set *glob.Set) ([]Found, Digest, error) {
	m, s := &matches{}, newSumming()
	defer s.free()
	err := t.walk(set, func(f *folder, meant []*entry, all bool) {
		m.add(f, meant, all)
		s.addFolder(f, meant, all)
	})
	return m.found, s.digest(), err
}

// SumOf returns the sum of files that [Tree.Match] or [Tree.Outputs] found: what
// [Tree.Sum] or [Tree.SumOutputs] would have returned then.
func SumOf(found []Found) Digest {
	s := newSumming()
	defer s.free()
	for i := range found {
		if found[i].Kind == Folder {
			s.add(found[i].Path, Folder, 0, &Digest{})
			continue
		}
		folder, name := path.Split(found[i].Path)
		s.inFolder.add(name, found[i].Kind, found[i].Mode, &found[i].Digest)
		if i+1 == len(found) || found[i+1].Kind == Folder || path.Dir(found[i+1].Path) != path.Clean(folder) {
			digest := s.inFolder.digest()
			s.add(strings.TrimSuffix(folder, "/"), Folder, 0, &digest)
		}
	}
	return s.digest()
}

// summing is a sum that is being made: of the files in a folder, or of the
// folders with such sums. A folder of which nothing has changed keeps its sum,
// so the files in it need not be added one by one.
type summing struct {
	hash *blake3.Hasher
	buf  []byte // what the hash has not been given yet

	inFolder *summing // for the files of one folder after the other; nil in itself
}

// sums are used again: a hash is larger than most of what it is given.
var sums = sync.Pool{New: func() any { return &summing{hash: blake3.New(), inFolder: &summing{hash: blake3.New()}} }}

func newSumming() *summing { return sums.Get().(*summing) }

// free lets another one use s, whose digest has been taken.
func (s *summing) free() { sums.Put(s) }

// summedAtOnce is how many bytes are handed to the hash at once.
const summedAtOnce = 8 << 10

// add adds a file or a folder, whose name holds no zero byte.
func (s *summing) add(name string, kind Kind, mode fs.FileMode, digest *Digest) {
	mark := byte(kind)
	if kind == File && mode&0o111 != 0 {
		mark |= 0x80
	}
	s.buf = append(append(s.buf, name...), 0, mark)
	s.buf = append(s.buf, digest[:]...)
	if len(s.buf) > summedAtOnce {
		s.hash.Write(s.buf) // never fails
		s.buf = s.buf[:0]
	}
}

// digest returns the sum, and begins a new one.
func (s *summing) digest() (d Digest) {
	s.hash.Write(s.buf) // never fails
	s.hash.Sum(d[:0])
	s.hash.Reset()
	s.buf = s.buf[:0]
	return d
}

// addFolder adds the files that are meant in a folder; all tells that these are
// all its files.
func (s *summing) addFolder(f *folder, meant []*entry, all bool) {
	if len(meant) == 0 {
		return
	}
	digest := f.whole
	if !all || digest == (Digest{}) {
		for _, e := range meant {
			s.inFolder.add(e.name, e.kind, fs.FileMode(e.mode), &e.digest)
		}
		if digest = s.inFolder.digest(); all {
			f.whole = digest
		}
	}
	s.add(f.path, Folder, 0, &digest)
}
