// Package store keeps outputs by their content, for all checkouts of a user.
package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
	"github.com/zeebo/blake3"

	"tugline/internal/atomicfile"
	"tugline/internal/files"
)

// ErrNotFound says that nothing is kept under a key.
var ErrNotFound = errors.New("not in the store")

// errDamaged says that what is kept is not what was put there.
var errDamaged = errors.New("damaged")

// Store is a folder of kept outputs:
//
//	v1/entries/ab/KEY        what a key stands for: paths, modes, digests
//	v1/objects/ab/DIGEST     a large file, or many small ones in a row, LZ4
//	v1/key                   for the digests of secret values
//	v1/lock                  shared by all that use it, exclusive while pruning
//
// Every file is written whole or not at all, and is only used if its digest is
// right. It may be used from many goroutines and many processes.
type Store struct {
	folder string
	blobs  Blobs // the entries and the objects
}

// At returns the store in a folder. It touches nothing; without [Store.Create]
// only reading may be done.
func At(folder string) *Store {
	folder = filepath.Join(folder, "v1")
	return &Store{folder, folderBlobs(folder)}
}

// Create makes the folder of the store, if need be.
func (s *Store) Create() error {
	for _, name := range []string{"entries", "objects"} {
		if err := os.MkdirAll(filepath.Join(s.folder, name), 0o700); err != nil {
			return fmt.Errorf("opening the store: %w", err)
		}
	}
	return nil
}

// Entry is what a key stands for.
type Entry struct {
	Key     string
	Made    time.Time
	Took    time.Duration // making it
	Files   []File
	Log     *Piece // what was printed; nil: nothing is kept of it
	Objects []string
	Lists   [][]string // of an entry that keeps no outputs: what [Store.PutLists] was given
}

// PutLists keeps lists of paths under key, in place of what was kept there.
func (s *Store) PutLists(ctx context.Context, key string, lists [][]string) error {
	done, err := s.share(ctx)
	if err != nil {
		return err
	}
	defer done()
	e := &Entry{Key: key, Made: time.Now().UTC(), Lists: lists}
	if err := s.blobs.Put(ctx, entryName(key), bytes.NewReader(e.text())); err != nil {
		return fmt.Errorf("keeping lists of files: %w", err)
	}
	return nil
}

// Lists returns the lists of paths that are kept under key.
func (s *Store) Lists(ctx context.Context, key string) [][]string {
	e, err := s.read(ctx, key)
	if err != nil {
		return nil // what is not known is made anew
	}
	return e.Lists
}

// File is one kept output.
type File struct {
	Path   string      // relative to the top folder of the project, with slashes
	Mode   fs.FileMode // permission bits
	Link   string      // the text of a symbolic link; empty for a file
	Folder bool        // it is an empty folder
	Beside bool        // it was not made: it stood beside what was
	Piece
}

// Piece is a stretch of an object's content.
type Piece struct {
	Object int   // in Objects
	Offset int64 // in bytes
	Size   int64
	Digest files.Digest
}

func (s *Store) entryPath(key string) string { return folderBlobs(s.folder).path(entryName(key)) }

func (s *Store) objectPath(digest string) string {
	return folderBlobs(s.folder).path(objectName(digest))
}

// Has reports whether something is kept under key, without looking at it.
func (s *Store) Has(ctx context.Context, key string) bool {
	has, err := s.blobs.Has(ctx, entryName(key))
	return has && err == nil // what cannot be asked is made again
}

// Get returns the entry of key. The error wraps [ErrNotFound] if there is none
// that can be read; a damaged one is dropped.
func (s *Store) Get(ctx context.Context, key string) (*Entry, error) {
	e, err := s.read(ctx, key)
	if err == nil {
		now := time.Now()
		os.Chtimes(s.entryPath(key), now, now) // best effort: the least recently used goes first
	}
	return e, err
}

// Peek returns the entry of key for who only wants to know what is in it. It
// is not used by that.
func (s *Store) Peek(ctx context.Context, key string) (*Entry, bool) {
	e, err := s.read(ctx, key)
	return e, err == nil
}

func (s *Store) read(ctx context.Context, key string) (*Entry, error) {
	text, err := readBlob(ctx, s.blobs, entryName(key))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%q: %w", key, ErrNotFound)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	e, ok := parse(text, key)
	if !ok {
		os.Remove(s.entryPath(key)) // best effort: it is worth nothing
		return nil, fmt.Errorf("%q: %w", key, ErrNotFound)
	}
	return e, nil
}

// Drop removes the entry of key: it turned out to be damaged.
func (s *Store) Drop(key string) error {
	if err := os.Remove(s.entryPath(key)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("dropping what is damaged in the store: %w", err)
	}
	return nil
}

// retryLock is how often the lock of the store is tried that somebody else holds.
const retryLock = 20 * time.Millisecond

// share keeps the store from being pruned until done is called. It waits for who
// prunes it, until ctx is done.
func (s *Store) share(ctx context.Context) (done func(), err error) {
	lock := flock.New(filepath.Join(s.folder, "lock"))
	return locked(ctx, lock, lock.TryRLockContext)
}

// exclusive waits until nobody else uses the store, or ctx is done.
func (s *Store) exclusive(ctx context.Context) (done func(), err error) {
	lock := flock.New(filepath.Join(s.folder, "lock"))
	return locked(ctx, lock, lock.TryLockContext)
}

func locked(ctx context.Context, lock *flock.Flock, try func(context.Context, time.Duration) (bool, error)) (done func(), err error) {
	if _, err := try(ctx, retryLock); err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, fmt.Errorf("locking the store: %w", err)
	}
	return func() { lock.Unlock() }, nil // fails only for a lock that is gone
}

// Keyed returns a digest of value under a key that only this user has.
func (s *Store) Keyed(value string) (string, error) {
	path := filepath.Join(s.folder, "key")
	key, err := os.ReadFile(path)
	if err != nil || len(key) != 32 {
		fresh := make([]byte, 32)
		rand.Read(fresh) // never fails
		if err := writeWhole(path, fresh); err != nil {
			return "", fmt.Errorf("making a key for secrets: %w", err)
		}
		if key, err = os.ReadFile(path); err != nil { // another Tugline may have made one, too
			return "", fmt.Errorf("reading the key for secrets: %w", err)
		}
	}
	h, err := blake3.NewKeyed(key)
	if err != nil {
		return "", fmt.Errorf("reading the key for secrets: %w", err)
	}
	h.WriteString(value) // never fails
	return hex.EncodeToString(h.Sum(nil)), nil
}

// writeWhole writes a file whole or not at all, and its folder if need be.
func writeWhole(path string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return atomicfile.Write(path, text)
}

// hexDigest returns d as it is written in entries.
func hexDigest(d files.Digest) string { return hex.EncodeToString(d[:]) }
