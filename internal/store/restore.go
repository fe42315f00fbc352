package store

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"tugline/internal/files"
)

// Restore makes the files of root that e names what they were, with their
// modes, and removes the others among present, which are those that are there
// now. What is right already is left alone.
//
// All is unpacked and checked in the folder staging of root before the first
// file is put into its place, so nothing is changed if the store is damaged:
// then the error wraps [ErrNotFound], and the entry is dropped. Nothing outside
// root is written, whatever links there are.
func (s *Store) Restore(e *Entry, root *os.Root, staging string, present []files.Found) error {
	done, err := s.share()
	if err != nil {
		return err
	}
	defer done()
	r := &restorer{store: s, entry: e, root: root, staging: staging, right: map[string]bool{}}
	r.compare(present)
	if err := r.checkLinks(present); err != nil {
		return err
	}
	if err := r.stage(); err != nil {
		root.RemoveAll(staging) // best effort: nothing counts on it
		if errors.Is(err, errDamaged) || errors.Is(err, fs.ErrNotExist) {
			return errors.Join(fmt.Errorf("%w: %v", ErrNotFound, err), s.Drop(e.Key))
		}
		return fmt.Errorf("restoring: %w", err)
	}
	err = r.place(present)
	root.RemoveAll(staging) // best effort: nothing counts on it
	if err != nil {
		return fmt.Errorf("restoring: %w", err)
	}
	return nil
}

type restorer struct {
	store   *Store
	entry   *Entry
	root    *os.Root
	staging string
	right   map[string]bool // paths that need nothing
	wanted  map[string]bool // all paths of the entry
}

// compare finds what is right already.
func (r *restorer) compare(present []files.Found) {
	now := make(map[string]*files.Found, len(present))
	for i := range present {
		now[present[i].Path] = &present[i]
	}
	r.wanted = make(map[string]bool, len(r.entry.Files))
	for i := range r.entry.Files {
		f := &r.entry.Files[i]
		r.wanted[f.Path] = true
		is := now[f.Path]
		if is == nil {
			continue
		}
		if f.Link != "" {
			text, err := r.root.Readlink(filepath.FromSlash(f.Path))
			r.right[f.Path] = err == nil && filepath.ToSlash(text) == f.Link
			continue
		}
		r.right[f.Path] = is.Kind == files.File && hexDigest(is.Digest) == f.Digest && uint32(is.Mode.Perm()) == f.Mode
	}
}

// checkLinks refuses to put files where a link leads that was not kept.
func (r *restorer) checkLinks(present []files.Found) error {
	for i := range present {
		f := &present[i]
		if f.Kind != files.Link || r.wanted[f.Path] {
			continue
		}
		for path := range r.wanted {
			if strings.HasPrefix(path, f.Path+"/") {
				return fmt.Errorf("restoring: %s is a link, so nothing is put there", f.Path)
			}
		}
	}
	return nil
}

func (r *restorer) staged(i int) string { return filepath.Join(r.staging, fmt.Sprint(i)) }

// stage unpacks what is not right into the staging folder.
func (r *restorer) stage() error {
	if err := r.root.MkdirAll(r.staging, 0o755); err != nil {
		return err
	}
	byObject := make([][]int, len(r.entry.Objects))
	for i := range r.entry.Files {
		f := &r.entry.Files[i]
		switch {
		case r.right[f.Path]:
		case f.Link != "":
			if err := r.root.Symlink(filepath.FromSlash(f.Link), r.staged(i)); err != nil {
				return err
			}
		default:
			byObject[f.Object] = append(byObject[f.Object], i)
		}
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

// unpack writes the files with the numbers in list, which are all in one object.
func (r *restorer) unpack(digest string, list []int) error {
	slices.SortFunc(list, func(a, b int) int { return int(r.entry.Files[a].Offset - r.entry.Files[b].Offset) })
	content, close, err := r.store.open(digest)
	if err != nil {
		return err
	}
	defer close()
	at := int64(0)
	buf := make([]byte, 64<<10)
	for _, i := range list {
		f := &r.entry.Files[i]
		if _, err := io.CopyN(io.Discard, content, f.Offset-at); err != nil {
			return fmt.Errorf("%w: %v", errDamaged, err)
		}
		if err := r.write(i, content, buf); err != nil {
			return err
		}
		at = f.Offset + f.Size
	}
	return nil
}

// write writes one file and checks its digest.
func (r *restorer) write(i int, content io.Reader, buf []byte) error {
	f := &r.entry.Files[i]
	out, err := r.root.OpenFile(r.staged(i), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	h := blake3.New()
	left := f.Size
	for left > 0 && err == nil {
		var n int
		n, err = io.ReadFull(content, buf[:min(left, int64(len(buf)))])
		if err != nil {
			err = fmt.Errorf("%w: %v", errDamaged, err)
			break
		}
		h.Write(buf[:n])
		_, err = out.Write(buf[:n])
		left -= int64(n)
	}
	if err == nil && hexDigest(files.Digest(h.Sum(nil))) != f.Digest {
		err = fmt.Errorf("%w: a file has other content", errDamaged)
	}
	if err == nil {
		err = out.Chmod(fs.FileMode(f.Mode))
	}
	return errors.Join(err, out.Close())
}

// place puts the staged files into their places.
func (r *restorer) place(present []files.Found) error {
	for i := range present {
		if !r.wanted[present[i].Path] {
			if err := r.root.Remove(filepath.FromSlash(present[i].Path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	made := map[string]bool{}
	for i := range r.entry.Files {
		f := &r.entry.Files[i]
		if r.right[f.Path] {
			continue
		}
		if folder := path.Dir(f.Path); !made[folder] {
			if err := r.root.MkdirAll(filepath.FromSlash(folder), 0o755); err != nil {
				return err
			}
			made[folder] = true
		}
		if err := r.root.Rename(r.staged(i), filepath.FromSlash(f.Path)); err != nil {
			return err
		}
	}
	return nil
}

// open returns the content of an object.
func (s *Store) open(digest string) (content io.Reader, close func(), err error) {
	file, err := os.Open(s.objectPath(digest))
	if err != nil {
		return nil, nil, err
	}
	d, err := zstd.NewReader(file, zstd.WithDecoderConcurrency(1))
	if err != nil {
		file.Close()
		return nil, nil, fmt.Errorf("%w: %v", errDamaged, err)
	}
	return d, func() { d.Close(); file.Close() }, nil
}

// Log returns what was printed when e was made; nil if that was not kept.
func (s *Store) Log(e *Entry) ([]byte, error) {
	if e.Log == nil {
		return nil, nil
	}
	content, close, err := s.open(e.Objects[e.Log.Object])
	if err != nil {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	defer close()
	_, err = io.CopyN(io.Discard, content, e.Log.Offset)
	text := make([]byte, e.Log.Size)
	if err == nil {
		_, err = io.ReadFull(content, text)
	}
	if err == nil && hexDigest(files.Sum(text)) != e.Log.Digest {
		err = errDamaged
	}
	if err != nil {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	return text, nil
}
