package store

import (
	"bufio"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"tugline/internal/files"
)

// small is the size up to which files are kept many in a row. Measured: an
// object for each small file costs more than all its bytes.
const small = 64 << 10

// packSize is how many bytes of small files are put into one object.
const packSize = 32 << 20

// ErrChanged says that a file was not what it was said to be.
var ErrChanged = errors.New("it changed while it was being kept")

// Put keeps files of the folder root under key, in place of what was kept
// there. log is what was printed; nil: it is not kept. The error wraps
// [ErrChanged] if a file is no more what found says.
func (s *Store) Put(key string, root *os.Root, found []files.Found, log []byte) error {
	done, err := s.share()
	if err != nil {
		return err
	}
	defer done()
	e := &Entry{Version: version, Key: key, Made: time.Now().UTC(), Files: make([]File, 0, len(found)), Objects: []string{}}
	p := &putter{store: s, entry: e}
	defer p.abandon()
	for i := range found {
		if err := p.file(root, &found[i]); err != nil {
			return fmt.Errorf("keeping %s: %w", found[i].Path, err)
		}
	}
	if log != nil {
		if e.Log, err = p.text(log); err != nil {
			return fmt.Errorf("keeping what was printed: %w", err)
		}
	}
	if err := p.close(); err != nil {
		return fmt.Errorf("keeping outputs: %w", err)
	}
	text, err := json.Marshal(e)
	if err != nil {
		return fmt.Errorf("keeping outputs: %w", err)
	}
	text = append([]byte(hexDigest(files.Sum(text))+"\n"), text...)
	if err := writeWhole(s.entryPath(key), text); err != nil {
		return fmt.Errorf("keeping outputs: %w", err)
	}
	return nil
}

// putter writes the objects of one entry.
type putter struct {
	store *Store
	entry *Entry
	open  *object // gathers small files; nil: none is open
}

func (p *putter) file(root *os.Root, f *files.Found) error {
	name := filepath.FromSlash(f.Path)
	kept := File{Path: f.Path, Mode: uint32(f.Mode.Perm()), Piece: Piece{Size: f.Size, Digest: hexDigest(f.Digest)}}
	if f.Kind == files.Link {
		text, err := root.Readlink(name)
		if err != nil {
			return err
		}
		kept.Link, kept.Piece = filepath.ToSlash(text), Piece{}
		p.entry.Files = append(p.entry.Files, kept)
		return nil
	}
	if f.Size > small {
		if err := p.large(root, name, &kept); err != nil {
			return err
		}
		p.entry.Files = append(p.entry.Files, kept)
		return nil
	}
	text, err := root.ReadFile(name)
	if err != nil {
		return err
	}
	if files.Sum(text) != f.Digest {
		return ErrChanged
	}
	piece, err := p.text(text)
	if err != nil {
		return err
	}
	kept.Piece = *piece
	p.entry.Files = append(p.entry.Files, kept)
	return nil
}

// large keeps a file in an object of its own, which other entries share.
func (p *putter) large(root *os.Root, name string, kept *File) error {
	kept.Object, kept.Offset = p.object(kept.Digest), 0
	if _, err := os.Lstat(p.store.objectPath(kept.Digest)); err == nil {
		return nil
	}
	file, err := root.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	o, err := p.store.newObject()
	if err != nil {
		return err
	}
	_, err = io.Copy(o, file)
	if err == nil && o.digest() != kept.Digest {
		err = ErrChanged
	}
	return o.close(err)
}

// text adds a small text to the open object.
func (p *putter) text(text []byte) (*Piece, error) {
	if p.open != nil && p.open.size > packSize {
		if err := p.close(); err != nil {
			return nil, err
		}
	}
	if p.open == nil {
		o, err := p.store.newObject()
		if err != nil {
			return nil, err
		}
		p.open = o
	}
	d := files.Sum(text)
	piece := &Piece{Object: len(p.entry.Objects), Offset: p.open.size, Size: int64(len(text)), Digest: hexDigest(d)}
	_, err := p.open.Write(text)
	return piece, err
}

// object returns the place of an object in the entry. The open one comes next,
// so it is closed first.
func (p *putter) object(digest string) int {
	for i, known := range p.entry.Objects {
		if known == digest {
			return i
		}
	}
	at := len(p.entry.Objects)
	p.entry.Objects = append(p.entry.Objects, digest)
	if p.open != nil { // pieces were given the place that is taken now
		p.shift(at)
	}
	return at
}

// shift moves the pieces of the open object one place on.
func (p *putter) shift(from int) {
	for i := range p.entry.Files {
		if f := &p.entry.Files[i]; f.Link == "" && f.Object == from {
			f.Object++
		}
	}
}

// close ends the open object.
func (p *putter) close() error {
	if p.open == nil {
		return nil
	}
	o := p.open
	p.open = nil
	p.entry.Objects = append(p.entry.Objects, o.digest())
	return o.close(nil)
}

// abandon takes away what was not closed.
func (p *putter) abandon() {
	if p.open != nil {
		p.open.close(errors.New("abandoned")) // says nothing but that
	}
}

// object is one being written.
type object struct {
	store *Store
	temp  *os.File
	out   *bufio.Writer
	pack  *zstd.Encoder
	hash  *blake3.Hasher
	size  int64 // of the content
}

// encoders are used again: making one costs more than a small object. zstd's
// fastest level: measured at 140 MB/s on program files, three times the next.
var encoders = sync.Pool{New: func() any {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic("store: bad options of zstd: " + err.Error())
	}
	return e
}}

func (s *Store) newObject() (*object, error) {
	temp, err := os.CreateTemp(filepath.Join(s.folder, "objects"), ".new-*")
	if err != nil {
		return nil, err
	}
	o := &object{store: s, temp: temp, out: bufio.NewWriterSize(temp, 128<<10), pack: encoders.Get().(*zstd.Encoder), hash: blake3.New()}
	o.pack.Reset(o.out)
	return o, nil
}

func (o *object) Write(text []byte) (int, error) {
	o.hash.Write(text) // never fails
	o.size += int64(len(text))
	return o.pack.Write(text)
}

func (o *object) digest() string { return hex.EncodeToString(o.hash.Sum(nil)) }

// close gives the object its name, or takes it away if err is not nil.
func (o *object) close(err error) error {
	err = errors.Join(err, o.pack.Close(), o.out.Flush())
	encoders.Put(o.pack)
	path := o.store.objectPath(o.digest())
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	return finish(o.temp, path, err)
}
