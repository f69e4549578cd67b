// Package stored reads the blobs of a repository as a whole, for questions about
// what tasks were made from. Transfers to clients do not go through it.
package stored

import (
	"context"
	"errors"
	"io"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

// Reader reads blobs.
type Reader struct {
	Records *records.DB
	Blobs   blobs.Store
}

// Read reads a blob of at most that many bytes; what is longer is cut. The error
// wraps [records.ErrNotExist] if the service does not have it.
func (r Reader) Read(ctx context.Context, repository int64, d digest.Digest, most int64) ([]byte, error) {
	b, err := r.Records.Blob(ctx, repository, d)
	if err != nil {
		return nil, err
	}
	content, err := packs.Open(ctx, r.Blobs, b, 0, b.Size)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	return io.ReadAll(io.LimitReader(content, most))
}

// ReadIfThere is [Reader.Read] for a listing or a list of ingredients, and
// returns nil if the service does not have it.
func (r Reader) ReadIfThere(ctx context.Context, repository int64, d digest.Digest) ([]byte, error) {
	if d.IsZero() {
		return nil, nil
	}
	text, err := r.Read(ctx, repository, d, protocol.MaxPart)
	if errors.Is(err, records.ErrNotExist) {
		return nil, nil
	}
	return text, err
}

// Ingredients returns a list of ingredients; nil if the service does not have
// it, or cannot read it because another version wrote it.
func (r Reader) Ingredients(ctx context.Context, repository int64, d digest.Digest) (*key.Ingredients, error) {
	text, err := r.ReadIfThere(ctx, repository, d)
	if text == nil || err != nil {
		return nil, err
	}
	in, err := key.Decode(text)
	if err != nil {
		return nil, nil
	}
	return in, nil
}
