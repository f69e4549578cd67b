// Package blobs stores the service's blobs: a small interface for a directory
// and a bucket, with its contract here and one test suite for both.
package blobs

import (
	"context"
	"errors"
	"io"
)

// ErrNotExist is wrapped by errors about a missing object.
var ErrNotExist = errors.New("no such object")

// Store stores objects by name. Names are relative paths with slashes; an
// object is written once and never changes.
type Store interface {
	// Put stores everything that r returns. When it returns nil, the object is
	// on durable storage. If r or the storage fails, nothing is stored, and
	// nobody has seen any of it.
	Put(ctx context.Context, object string, r io.Reader) error
	// Open returns length bytes of an object from an offset, or fewer if the
	// object ends earlier. It wraps [ErrNotExist] if there is no such object.
	Open(ctx context.Context, object string, from, length int64) (io.ReadCloser, error)
	// Delete deletes an object. A missing object is not an error.
	Delete(ctx context.Context, object string) error
}
