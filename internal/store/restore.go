package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/zeebo/blake3"

	"tugline/internal/files"
)

// Restoring tells how an entry is to be restored.
type Restoring struct {
	Staging string        // a folder of the root for nobody else, with slashes; what is left of an earlier restore is removed
	Present []files.Found // the outputs that are there now
	// May reports whether a path is one of those that may be restored; nil: all are.
	May func(path string) bool
	// Known reports whether what is there may be replaced: it was made by a run.
	// What is not known is moved into the folder Aside of the root; nil: all is known.
	Known func(files.Found) bool
	Aside string // with slashes
}

// Restore makes the files of root that e names what they were, with their
// modes, and removes the others that are present. What is right already is left
// alone. It returns the paths that it moved aside. A folder in the place of a
// file, or a file in that of a folder, is moved aside as well.
//
// All is unpacked and checked in the staging folder before the first file is put
// into its place, so nothing is changed if the store is damaged: then the error
// wraps [ErrNotFound], and the entry is dropped; likewise if the entry names what
// must not be restored. Nothing outside root is written, whatever links there are.
func (s *Store) Restore(ctx context.Context, e *Entry, root *os.Root, how Restoring) (moved []string, err error) {
	if err := e.allowed(how.May); err != nil {
		return nil, errors.Join(fmt.Errorf("%w: %v", ErrNotFound, err), s.Drop(e.Key))
	}
	done, err := s.share(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	if err := root.RemoveAll(how.Staging); err != nil {
		return nil, fmt.Errorf("restoring: %w", err)
	}
	r := &restorer{ctx: ctx, store: s, entry: e, root: root, staging: how.Staging, how: how}
	r.compare(how.Present)
	if err := r.checkLinks(how.Present); err != nil {
		return nil, err
	}
	defer root.RemoveAll(how.Staging) // best effort: nothing counts on it
	if err := r.stage(); err != nil {
		if errors.Is(err, errDamaged) || errors.Is(err, fs.ErrNotExist) {
			return nil, errors.Join(fmt.Errorf("%w: %v", ErrNotFound, err), s.Drop(e.Key))
		}
		return nil, fmt.Errorf("restoring: %w", err)
	}
	if err := r.place(); err != nil {
		return r.moved, fmt.Errorf("restoring: %w", err)
	}
	return r.moved, nil
}

type restorer struct {
	ctx     context.Context // of the call of Restore that it serves
	store   *Store
	entry   *Entry
	root    *os.Root
	staging string // with slashes
	how     Restoring
	moved   []string
	right   []bool          // by file: it needs nothing
	wanted  map[string]bool // all paths of the entry; nil: not asked for yet
}

// compare finds what is right already. Both lists are most often in the same
// order.
func (r *restorer) compare(present []files.Found) {
	r.right = make([]bool, len(r.entry.Files))
	var byPath map[string]*files.Found
	for i := range r.entry.Files {
		f := &r.entry.Files[i]
		var is *files.Found
		if i < len(present) && present[i].Path == f.Path {
			is = &present[i]
		} else {
			if byPath == nil {
				byPath = make(map[string]*files.Found, len(present))
				for k := range present {
					byPath[present[k].Path] = &present[k]
				}
			}
			is = byPath[f.Path]
		}
		r.right[i] = is != nil && r.isRight(f, is)
	}
}

func (r *restorer) isRight(f *File, is *files.Found) bool {
	if f.Folder {
		return is.Kind == files.Folder
	}
	if f.Link != "" {
		text, err := r.root.Readlink(filepath.FromSlash(f.Path))
		return err == nil && filepath.ToSlash(text) == f.Link
	}
	return is.Kind == files.File && is.Digest == f.Digest && is.Mode.Perm() == f.Mode
}

// wants reports whether a path is one of the entry.
func (r *restorer) wants(path string) bool {
	if r.wanted == nil {
		r.wanted = make(map[string]bool, len(r.entry.Files))
		for i := range r.entry.Files {
			r.wanted[r.entry.Files[i].Path] = true
		}
	}
	return r.wanted[path]
}

// checkLinks refuses to put or remove files where a link leads that was not
// kept: what is there is somebody else's.
func (r *restorer) checkLinks(present []files.Found) error {
	looked := map[string]bool{".": true}
	check := func(name string) error {
		for dir := path.Dir(name); !looked[dir]; dir = path.Dir(dir) {
			looked[dir] = true
			info, err := r.root.Lstat(filepath.FromSlash(dir))
			if err == nil && info.Mode()&fs.ModeSymlink != 0 && !r.wants(dir) {
				return fmt.Errorf("restoring: %s is a link, so nothing is put there", dir)
			}
		}
		return nil
	}
	for i := range present {
		if err := check(present[i].Path); err != nil {
			return err
		}
	}
	for i := range r.entry.Files {
		if err := check(r.entry.Files[i].Path); err != nil {
			return err
		}
	}
	return nil
}

// stage unpacks what is not right into the staging folder, at the same paths.
func (r *restorer) stage() error {
	byObject := make([][]int, len(r.entry.Objects))
	made := map[string]bool{}
	for i := range r.entry.Files {
		if r.right[i] {
			continue
		}
		f := &r.entry.Files[i]
		folder := path.Dir(path.Join(r.staging, f.Path))
		if f.Folder {
			folder = path.Join(r.staging, f.Path)
		}
		if !made[folder] {
			if err := r.root.MkdirAll(filepath.FromSlash(folder), 0o777); err != nil {
				return err
			}
			made[folder] = true
		}
		if f.Folder {
			continue
		}
		if f.Link != "" {
			if err := r.root.Symlink(filepath.FromSlash(f.Link), filepath.FromSlash(path.Join(r.staging, f.Path))); err != nil {
				return err
			}
			continue
		}
		byObject[f.Object] = append(byObject[f.Object], i)
	}
	for object, list := range byObject {
		if len(list) == 0 {
			continue
		}
		err := r.unpack(r.entry.Objects[object], list)
		if errors.Is(err, errDamaged) {
			os.Remove(r.store.objectPath(r.entry.Objects[object])) // best effort: else it would be taken for kept
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// writers is how many write files at once. Measured on two cores: with one the
// system waits for us half of the time, more gain nothing.
const writers = 2

// unpack writes the files with the numbers in list, which are all in one object:
// large ones that are equal, or small ones.
func (r *restorer) unpack(digest string, list []int) error {
	var rest []int
	for _, i := range list {
		if !r.isLarge(i) {
			rest = append(rest, i)
			continue
		}
		content, close, err := r.store.open(r.ctx, digest)
		if err != nil {
			return err
		}
		err = r.writeLarge(i, content)
		close()
		if err != nil {
			return err
		}
	}
	if len(rest) == 0 {
		return nil
	}
	content, close, err := r.store.open(r.ctx, digest)
	if err != nil {
		return err
	}
	defer close()
	return r.unpackSmall(content, rest)
}

func (r *restorer) isLarge(i int) bool { return r.entry.Files[i].Size > small }

// unpackSmall writes the small files with the numbers in list.
func (r *restorer) unpackSmall(content io.Reader, list []int) error {
	slices.SortFunc(list, func(a, b int) int { return cmp.Compare(r.entry.Files[a].Offset, r.entry.Files[b].Offset) })
	texts := make(chan []staged, writers)
	errs := make([]error, writers+1)
	var wg sync.WaitGroup
	for w := range writers {
		wg.Go(func() {
			errs[w] = r.writeAll(texts)
			for range texts { // the rest is not wanted any more
			}
		})
	}
	errs[writers] = r.readAll(content, list, texts)
	wg.Wait()
	return errors.Join(errs...)
}

// staged is the content of one file.
type staged struct {
	number int
	text   []byte
}

// atOnce is how many bytes of files are handed to a writer at once.
const atOnce = 1 << 20

// readAll sends the contents of the files in list, and closes texts. What is sent
// at once belongs into one folder: two that make files in the same one wait for
// each other.
func (r *restorer) readAll(content io.Reader, list []int, texts chan<- []staged) error {
	defer close(texts)
	var next []staged
	at, size, folder := int64(0), int64(0), ""
	for _, i := range list {
		f := &r.entry.Files[i]
		if into := path.Dir(f.Path); into != folder || size > atOnce {
			if len(next) > 0 {
				texts <- next
			}
			next, size, folder = nil, 0, into
		}
		if f.Offset < at {
			return fmt.Errorf("%w: two files overlap", errDamaged)
		}
		if _, err := io.CopyN(io.Discard, content, f.Offset-at); err != nil {
			return fmt.Errorf("%w: %v", errDamaged, err)
		}
		text := make([]byte, f.Size)
		if _, err := io.ReadFull(content, text); err != nil {
			return fmt.Errorf("%w: %v", errDamaged, err)
		}
		next = append(next, staged{i, text})
		at, size = f.Offset+f.Size, size+f.Size
	}
	texts <- next
	return nil
}

// writeAll checks and writes what comes.
func (r *restorer) writeAll(texts <-chan []staged) error {
	folders := folders{root: r.root}
	defer folders.close()
	var into target
	defer func() { into.close() }()
	for some := range texts {
		for _, s := range some {
			f := &r.entry.Files[s.number]
			if files.Sum(s.text) != f.Digest {
				return fmt.Errorf("%w: a file has other content", errDamaged)
			}
			name := path.Join(r.staging, f.Path)
			folder, err := folders.open(path.Dir(name))
			if err != nil {
				return err
			}
			if into.root != folder {
				into.close()
				if into, err = targetIn(folder); err != nil {
					return err
				}
			}
			if err := writeSmall(into, path.Base(name), f.Mode, s.text); err != nil {
				return err
			}
		}
	}
	return nil
}

// target is an open folder into which files are written.
type target struct {
	root *os.Root
	dir  *os.File // the same
}

func targetIn(root *os.Root) (target, error) {
	dir, err := root.Open(".")
	return target{root, dir}, err
}

func (t target) close() {
	if t.dir != nil {
		t.dir.Close()
	}
}

// writeLarge checks and writes the one file of an object.
func (r *restorer) writeLarge(i int, content io.Reader) error {
	f := &r.entry.Files[i]
	h := blake3.New()
	name := filepath.FromSlash(path.Join(r.staging, f.Path))
	if err := writeFile(r.root, name, f.Mode, io.TeeReader(damaging{content}, h)); err != nil {
		return err
	}
	if files.Digest(h.Sum(nil)) != f.Digest {
		return fmt.Errorf("%w: a file has other content", errDamaged)
	}
	return nil
}

// damaging says of every error of reading that the store is damaged.
type damaging struct{ from io.Reader }

func (d damaging) Read(p []byte) (int, error) {
	n, err := d.from.Read(p)
	if err != nil && err != io.EOF {
		err = fmt.Errorf("%w: %v", errDamaged, err)
	}
	return n, err
}

func writeFile(root *os.Root, name string, mode fs.FileMode, content io.Reader) error {
	out, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode|0o200)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, content)
	if info, statErr := out.Stat(); err == nil && (statErr != nil || info.Mode().Perm() != mode) {
		err = errors.Join(statErr, out.Chmod(mode)) // the user's mask took something away
	}
	return errors.Join(err, out.Close())
}

// place puts the staged files into their places.
func (r *restorer) place() error {
	if err := r.clear(); err != nil {
		return err
	}
	var moved string // a folder that was not there, and was moved as a whole
	there := map[string]bool{".": true}
	for i := range r.entry.Files {
		f := &r.entry.Files[i]
		if r.right[i] || moved != "" && strings.HasPrefix(f.Path+"/", moved+"/") {
			continue
		}
		if err := r.clearWay(f, there); err != nil {
			return err
		}
		for {
			what := r.missing(f.Path, there)
			from := filepath.FromSlash(path.Join(r.staging, what))
			err := r.root.Rename(from, filepath.FromSlash(what))
			if what == f.Path && f.Folder && err != nil {
				err = r.root.MkdirAll(filepath.FromSlash(what), 0o777)
			}
			if what == f.Path && err != nil {
				return err
			}
			if err == nil {
				if what != f.Path {
					moved = what
				}
				break
			}
			// Another step made the folder in the meantime.
			if err := r.root.MkdirAll(filepath.FromSlash(what), 0o777); err != nil {
				return err
			}
			there[what] = true
		}
	}
	return nil
}

// clearWay moves aside what stands in the way of a file: a folder in its place, or
// a file in that of a folder above it. An empty folder is only removed. there
// are folders that are known to be some.
func (r *restorer) clearWay(f *File, there map[string]bool) error {
	for at := 0; ; {
		next := strings.IndexByte(f.Path[at:], '/')
		if next < 0 {
			break
		}
		at += next
		folder := f.Path[:at]
		at++
		if there[folder] {
			continue
		}
		info, err := r.root.Lstat(filepath.FromSlash(folder))
		if errors.Is(err, fs.ErrNotExist) {
			return nil // nothing stands below it
		}
		if err != nil {
			return err
		}
		if !info.IsDir() {
			return r.moveAside(folder)
		}
		there[folder] = true
	}
	name := filepath.FromSlash(f.Path)
	info, err := r.root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) || err == nil && info.IsDir() == f.Folder {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() && r.root.Remove(name) == nil {
		return nil // it was empty
	}
	if !info.IsDir() && !f.Folder {
		return nil // it is replaced
	}
	return r.moveAside(f.Path)
}

// missing returns the first folder on the way to a path that is not there, or
// the path itself.
func (r *restorer) missing(name string, there map[string]bool) string {
	at := 0
	for {
		next := strings.IndexByte(name[at:], '/')
		if next < 0 {
			return name
		}
		at += next
		folder := name[:at]
		at++
		if !there[folder] {
			if _, err := r.root.Lstat(filepath.FromSlash(folder)); err != nil {
				return folder
			}
			there[folder] = true
		}
	}
}

// clear removes what is there and was not kept, and moves aside what is not
// known and would be replaced.
func (r *restorer) clear() error {
	if len(r.how.Present) == len(r.entry.Files) && !slices.Contains(r.right, false) {
		return nil
	}
	right := make(map[string]bool, len(r.right))
	for i := range r.entry.Files {
		right[r.entry.Files[i].Path] = r.right[i]
	}
	for _, f := range r.how.Present {
		name := filepath.FromSlash(f.Path)
		var err error
		switch {
		case right[f.Path]:
		case f.Kind == files.Folder:
			if !r.wants(f.Path) {
				r.root.Remove(name) // best effort: it may hold something by now
			}
		case r.how.Known != nil && !r.how.Known(f):
			err = r.moveAside(f.Path)
		case !r.wants(f.Path):
			err = r.root.Remove(name)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if !right[f.Path] && !r.wants(f.Path) {
			r.removeEmpty(path.Dir(f.Path))
		}
	}
	return nil
}

// removeEmpty removes a folder of outputs, and those above it, if they hold
// nothing any more and were not kept as they are.
func (r *restorer) removeEmpty(dir string) {
	for ; dir != "." && !r.wants(dir) && (r.how.May == nil || r.how.May(dir)); dir = path.Dir(dir) {
		if r.root.Remove(filepath.FromSlash(dir)) != nil {
			return // it holds something
		}
	}
}

func (r *restorer) moveAside(name string) error {
	if err := MoveAside(r.root, name, r.how.Aside); err != nil {
		return err
	}
	r.moved = append(r.moved, name)
	return nil
}

// MoveAside moves a file or folder of root into a folder of it, below which it
// keeps its path. Both are given with slashes. No folder on the way to its new
// place may be a link.
func MoveAside(root *os.Root, name, into string) error {
	for dir := into; dir != "."; dir = path.Dir(dir) {
		if info, err := root.Lstat(filepath.FromSlash(dir)); err == nil && !info.IsDir() {
			return fmt.Errorf("moving %s aside: %s is not a folder", name, dir)
		}
	}
	to := path.Join(into, name)
	for number := 2; ; number++ { // it may have stood there before in this run
		if _, err := root.Lstat(filepath.FromSlash(to)); errors.Is(err, fs.ErrNotExist) {
			break
		}
		to = fmt.Sprintf("%s.%d", path.Join(into, name), number)
	}
	if err := root.MkdirAll(filepath.FromSlash(path.Dir(to)), 0o755); err != nil {
		return err
	}
	return root.Rename(filepath.FromSlash(name), filepath.FromSlash(to))
}
