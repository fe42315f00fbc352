package store

import (
	"context"
	"fmt"
	"io"
	"sync"

	"github.com/pierrec/lz4/v4"

	"tugline/internal/files"
)

// unpackers are used again: each holds the memory of a block, which it gives back
// only when it is reset.
var unpackers = sync.Pool{New: func() any { return lz4.NewReader(nil) }}

// open returns the content of an object.
func (s *Store) open(ctx context.Context, digest string) (content io.Reader, close func(), err error) {
	file, err := s.blobs.Get(ctx, objectName(digest))
	if err != nil {
		return nil, nil, err
	}
	unpacker := unpackers.Get().(*lz4.Reader)
	unpacker.Reset(file)
	return unpacker, func() {
		unpacker.Reset(nil)
		unpackers.Put(unpacker)
		file.Close() // it was only read
	}, nil
}

// Log returns what was printed when e was made; nil if that was not kept.
func (s *Store) Log(ctx context.Context, e *Entry) ([]byte, error) {
	if e.Log == nil {
		return nil, nil
	}
	content, close, err := s.open(ctx, e.Objects[e.Log.Object])
	if err != nil {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	defer close()
	_, err = io.CopyN(io.Discard, content, e.Log.Offset)
	text := make([]byte, e.Log.Size)
	if err == nil {
		_, err = io.ReadFull(content, text)
	}
	if err == nil && files.Sum(text) != e.Log.Digest {
		err = errDamaged
	}
	if err != nil {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	return text, nil
}
