package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"tugline/internal/atomicfile"
)

// Blobs keeps content under names, each whole or not at all. A name is a path with
// slashes, such as "objects/ab/DIGEST". The store stands on it, so that what is not
// here can be asked for elsewhere.
type Blobs interface {
	// Get returns what is kept under a name. The error wraps [fs.ErrNotExist] if
	// nothing is.
	Get(ctx context.Context, name string) (io.ReadCloser, error)
	// Put keeps content under a name, in place of what was there.
	Put(ctx context.Context, name string, content io.Reader) error
	// Has reports whether something is kept under a name.
	Has(ctx context.Context, name string) (bool, error)
}

func entryName(key string) string     { return "entries/" + key[:2] + "/" + key }
func objectName(digest string) string { return "objects/" + digest[:2] + "/" + digest }

// folderBlobs are files of a folder.
type folderBlobs string

func (b folderBlobs) path(name string) string {
	return filepath.Join(string(b), filepath.FromSlash(name))
}

func (b folderBlobs) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	if err := ctx.Err(); err != nil {
		return nil, context.Cause(ctx)
	}
	return os.Open(b.path(name))
}

// Put takes content over if it is a [draft], which needs no copy then.
func (b folderBlobs) Put(ctx context.Context, name string, content io.Reader) (err error) {
	path := b.path(name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	file, isDraft := content.(draft)
	if !isDraft {
		if file.File, err = atomicfile.Create(filepath.Dir(path)); err == nil {
			_, err = io.Copy(file, content)
		}
		if file.File == nil {
			return err
		}
	}
	if ctx.Err() != nil {
		err = errors.Join(err, context.Cause(ctx))
	}
	return atomicfile.Finish(file.File, path, err)
}

func (b folderBlobs) Has(ctx context.Context, name string) (bool, error) {
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	_, err := os.Lstat(b.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// draft is a file with content that is to be put, made by [atomicfile.Create] in the
// folder of the blobs. Who puts it gives it away.
type draft struct{ *os.File }

// readBlob returns all that is kept under a name.
func readBlob(ctx context.Context, b Blobs, name string) ([]byte, error) {
	content, err := b.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	text, err := io.ReadAll(content)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	return text, nil
}
