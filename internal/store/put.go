package store

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/pierrec/lz4/v4"
	"github.com/zeebo/blake3"

	"tugline/internal/atomicfile"
	"tugline/internal/files"
)

// small is the size up to which files are kept many in a row. Measured: an
// object for each small file costs more than all its bytes.
const small = 64 << 10

// packSize is how many bytes of small files are put into one object.
const packSize = 32 << 20

// ErrChanged says that a file was not what it was said to be.
var ErrChanged = errors.New("it changed while it was being kept")

// Made tells of how outputs were made.
type Made struct {
	Took time.Duration
	Log  []byte // what was printed; nil: it is not kept

	// Local are texts that tell a place, such as the path of the project: what
	// holds one of them is kept under LocalKey instead, for that place alone.
	Local    []string
	LocalKey string

	// Beside tells which files were not made, but stood beside what was; nil: none.
	Beside func(*files.Found) bool
}

// Put keeps files of the folder root under key, in place of what was kept
// there. The error wraps [ErrChanged] if a file is no more what found says.
func (s *Store) Put(ctx context.Context, key string, root *os.Root, found []files.Found, made Made) error {
	done, err := s.share(ctx)
	if err != nil {
		return err
	}
	defer done()
	e := &Entry{Key: key, Made: time.Now().UTC(), Took: made.Took, Files: make([]File, 0, len(found))}
	p := &putter{ctx: ctx, store: s, entry: e, local: newFinder(made.Local), beside: made.Beside}
	defer p.abandon()
	if err := eachBatch(root, found, p.batch); err != nil {
		return err
	}
	if made.Log != nil {
		if e.Log, err = p.text(made.Log, files.Sum(made.Log)); err != nil {
			return fmt.Errorf("keeping what was printed: %w", err)
		}
	}
	if err := p.close(); err != nil {
		return fmt.Errorf("keeping outputs: %w", err)
	}
	if p.local.found {
		e.Key = made.LocalKey
	}
	if err := s.blobs.Put(ctx, entryName(e.Key), bytes.NewReader(e.text())); err != nil {
		return fmt.Errorf("keeping outputs: %w", err)
	}
	return nil
}

// putter writes the objects of one entry.
type putter struct {
	ctx   context.Context // of the call of Put that it serves
	store *Store
	entry *Entry
	open  *object // gathers small files; nil: none is open
	local *finder

	beside func(*files.Found) bool
}

// batchSize is how many files are read before they are put into an object.
const batchSize = 256

// batch is some files and what the small ones of them held.
type batch struct {
	found []files.Found
	texts []content
}

// eachBatch reads files, and hands them to put while it reads the next ones.
func eachBatch(root *os.Root, found []files.Found, put func(*os.Root, batch) error) error {
	next, stop := make(chan batch, 1), make(chan struct{})
	var wg sync.WaitGroup
	defer wg.Wait()
	defer close(stop)
	wg.Go(func() {
		defer close(next)
		for len(found) > 0 {
			some := found[:min(len(found), batchSize)]
			found = found[len(some):]
			select {
			case next <- batch{some, readSmall(root, some)}:
			case <-stop:
				return
			}
		}
	})
	for b := range next {
		if err := put(root, b); err != nil {
			return err
		}
	}
	return nil
}

func (p *putter) batch(root *os.Root, b batch) error {
	for i := range b.found {
		if err := p.file(root, &b.found[i], b.texts[i]); err != nil {
			return fmt.Errorf("keeping %s: %w", b.found[i].Path, err)
		}
		if p.beside != nil && b.found[i].Kind == files.File && p.beside(&b.found[i]) {
			p.entry.Files[len(p.entry.Files)-1].Beside = true
		}
	}
	return nil
}

// content is what a small file held, or why it cannot be kept.
type content struct {
	text []byte
	err  error
}

// readSmall reads the small ones of some files, two at once: with one reader the
// system waits for us half of the time.
func readSmall(root *os.Root, batch []files.Found) []content {
	texts := make([]content, len(batch))
	var wg sync.WaitGroup
	for _, half := range [][2]int{{0, len(batch) / 2}, {len(batch) / 2, len(batch)}} {
		wg.Go(func() {
			r := files.Reader{Top: root.Name()}
			defer r.Close()
			for i := half[0]; i < half[1]; i++ {
				if f := &batch[i]; f.Kind == files.File && f.Size <= small {
					texts[i] = readOne(&r, f)
				}
			}
		})
	}
	wg.Wait()
	return texts
}

// readOne reads a file, unless it came with its content. It must be what f says;
// that is why it need not be read below a root: a file that a link leads to is
// another one.
func readOne(r *files.Reader, f *files.Found) content {
	if f.Text != nil {
		return content{text: f.Text}
	}
	text, err := r.Read(f)
	if err == nil && files.Sum(text) != f.Digest {
		err = ErrChanged
	}
	return content{text, err}
}

func (p *putter) file(root *os.Root, f *files.Found, read content) error {
	name := filepath.FromSlash(f.Path)
	kept := File{Path: f.Path, Mode: f.Mode.Perm(), Piece: Piece{Size: f.Size, Digest: f.Digest}}
	if f.Kind == files.Folder {
		p.entry.Files = append(p.entry.Files, File{Path: f.Path, Folder: true})
		return nil
	}
	if f.Kind == files.Link {
		text, err := root.Readlink(name)
		if err != nil {
			return err
		}
		p.local.whole([]byte(text))
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
	if read.err != nil {
		return read.err
	}
	p.local.whole(read.text)
	piece, err := p.text(read.text, f.Digest)
	if err != nil {
		return err
	}
	kept.Piece = *piece
	p.entry.Files = append(p.entry.Files, kept)
	return nil
}

// large keeps a file in an object of its own, which other entries share.
func (p *putter) large(root *os.Root, name string, kept *File) error {
	digest := hexDigest(kept.Digest)
	kept.Object, kept.Offset = p.object(digest), 0
	if has, err := p.store.blobs.Has(p.ctx, objectName(digest)); has && err == nil {
		return p.local.file(root, name)
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
	p.local.end()
	_, err = io.Copy(io.MultiWriter(o, p.local), file)
	p.local.end()
	if err == nil && o.digest() != digest {
		err = ErrChanged
	}
	return o.close(p.ctx, err)
}

// text adds a small text, of which the digest is given, to the open object.
func (p *putter) text(text []byte, digest files.Digest) (*Piece, error) {
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
	piece := &Piece{Object: len(p.entry.Objects), Offset: p.open.size, Size: int64(len(text)), Digest: digest}
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
		if f := &p.entry.Files[i]; f.Link == "" && !f.Folder && f.Object == from {
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
	return o.close(p.ctx, nil)
}

// abandon takes away what was not closed.
func (p *putter) abandon() {
	if p.open != nil {
		p.open.close(p.ctx, errors.New("abandoned")) // says nothing but that
	}
}

// hashers are used again: each is larger than most of what it is given.
var hashers = sync.Pool{New: func() any { return blake3.New() }}

// object is one being written.
type object struct {
	store *Store
	temp  *os.File
	pack  *lz4.Writer
	hash  *blake3.Hasher
	size  int64 // of the content
}

func (s *Store) newObject() (*object, error) {
	temp, err := atomicfile.Create(filepath.Join(s.folder, "objects"))
	if err != nil {
		return nil, err
	}
	o := &object{store: s, temp: temp, pack: lz4.NewWriter(temp), hash: hashers.Get().(*blake3.Hasher)}
	o.hash.Reset()
	// The default, 4 MiB, costs more to allocate than a small object takes.
	if err := o.pack.Apply(lz4.BlockSizeOption(lz4.Block256Kb)); err != nil {
		panic("store: a bad option of LZ4: " + err.Error())
	}
	return o, nil
}

func (o *object) Write(text []byte) (int, error) {
	o.hash.Write(text) // never fails
	o.size += int64(len(text))
	return o.pack.Write(text)
}

func (o *object) digest() string { return hex.EncodeToString(o.hash.Sum(nil)) }

// close gives the object its name, or takes it away if err is not nil.
func (o *object) close(ctx context.Context, err error) error {
	defer hashers.Put(o.hash)
	err = errors.Join(err, o.pack.Close())
	if err != nil {
		return atomicfile.Finish(o.temp, "", err)
	}
	return o.store.blobs.Put(ctx, objectName(o.digest()), draft{o.temp})
}

// folders keeps the folder open in which the last file was, since a path is
// walked anew, name by name, each time it is opened below a root.
type folders struct {
	root *os.Root
	path string
	last *os.Root
}

// open returns the folder at a path, with slashes.
func (f *folders) open(folder string) (*os.Root, error) {
	if folder == "." {
		return f.root, nil
	}
	if f.last != nil && f.path == folder {
		return f.last, nil
	}
	f.close()
	opened, err := f.root.OpenRoot(filepath.FromSlash(folder))
	if err != nil {
		return nil, err
	}
	f.path, f.last = folder, opened
	return opened, nil
}

func (f *folders) close() {
	if f.last != nil {
		f.last.Close()
		f.last = nil
	}
}
