// Package blobs keeps the service's blobs: a small interface that a directory
// and a bucket can both meet, with its contract written down here and held to
// by one suite of tests.
package blobs

import (
	"context"
	"errors"
	"io"
)

// ErrNotExist is wrapped by errors about an object that is not there.
var ErrNotExist = errors.New("no such object")

// Store keeps objects by name. Names are relative paths with slashes; an
// object is written once and never changes.
type Store interface {
	// Put keeps what r yields until its end. When it returns nil, the object
	// is on durable storage. When r or the storage fails, nothing is kept, and
	// nobody has seen any of it.
	Put(ctx context.Context, object string, r io.Reader) error
	// Open returns length bytes of an object from an offset, or fewer where it
	// ends before. [ErrNotExist] is wrapped where it is not there.
	Open(ctx context.Context, object string, from, length int64) (io.ReadCloser, error)
	// Delete takes an object away. One that is not there is no error.
	Delete(ctx context.Context, object string) error
}
