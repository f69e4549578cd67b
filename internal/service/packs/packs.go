// Package packs keeps small blobs as frames of pack objects, whose form is that of
// internal/core/pack, and reads blobs wherever they are.
package packs

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/records"
)

// Most is the number of bytes at which a pack object is full.
const Most = 64 << 20

// Name returns a name for a new pack object of a repository.
func Name(repository int64) string {
	var b [16]byte
	_, _ = rand.Read(b[:])
	name := hex.EncodeToString(b[:])
	return fmt.Sprintf("%d/packs/%s/%s.tar.zst", repository, name[:2], name)
}

// Object is a pack object that is being written. Nobody sees it before [Object.Close].
type Object struct {
	Name   string
	bytes  int64
	to     *io.PipeWriter
	stored chan error
}

// Begin begins a pack object. It must be closed or dropped.
func Begin(ctx context.Context, store blobs.Store, name string) *Object {
	r, w := io.Pipe()
	o := &Object{Name: name, to: w, stored: make(chan error, 1)}
	go func() {
		err := store.Put(ctx, name, r)
		r.CloseWithError(errors.Join(err, io.ErrClosedPipe))
		o.stored <- err
	}()
	return o
}

// Add appends a frame, and returns its position.
func (o *Object) Add(frame []byte) (position int64, err error) {
	position = o.bytes
	n, err := o.to.Write(frame)
	o.bytes += int64(n)
	return position, err
}

// Bytes returns the bytes of the frames so far.
func (o *Object) Bytes() int64 { return o.bytes }

// Close ends the object. When it returns nil, all of it is on durable storage.
func (o *Object) Close() error {
	_, err := o.to.Write(pack.End())
	o.to.CloseWithError(err) // the end, if there is none
	return errors.Join(err, <-o.stored)
}

// errDropped is what the storage reads instead of the end of a dropped object.
var errDropped = errors.New("the pack was dropped")

// Drop discards the object.
func (o *Object) Drop() {
	o.to.CloseWithError(errDropped)
	<-o.stored
}

// Open returns length bytes of a blob, from an offset. Those of a packed blob were verified;
// others are what the storage returns. The error wraps [blobs.ErrNotExist] if the object
// does not exist or is damaged.
func Open(ctx context.Context, store blobs.Store, b records.Blob, from, length int64) (io.ReadCloser, error) {
	if b.Packed == 0 {
		return store.Open(ctx, b.Object, from, length)
	}
	r, err := store.Open(ctx, b.Object, b.Position, b.Packed)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	frame, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	d, err := digest.FromBytes(b.Digest)
	if err != nil {
		return nil, err
	}
	text, err := pack.Unframe(frame, d, b.Size)
	if err != nil {
		return nil, fmt.Errorf("%w: object %s, byte %d: %w", blobs.ErrNotExist, b.Object, b.Position, err)
	}
	from = min(from, b.Size)
	return io.NopCloser(bytes.NewReader(text[from:min(b.Size, from+length)])), nil
}

// gap is how many bytes between two frames are read and thrown away, rather than asking the
// storage once more.
const gap = 256 << 10

// Range is a part of an object that contains frames, in order. A blob that is an object of
// its own is a range of its own.
type Range struct {
	Object string
	From   int64
	Length int64
	Blobs  []records.Blob
}

// Ranges divides blobs into as few ranges as are worth it, each of at most [Most] bytes.
func Ranges(list []records.Blob) (out []Range) {
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b records.Blob) int {
		if c := strings.Compare(a.Object, b.Object); c != 0 {
			return c
		}
		return int(min(max(a.Position-b.Position, -1), 1))
	})
	for _, b := range list {
		if b.Packed == 0 {
			out = append(out, Range{b.Object, 0, b.Size, []records.Blob{b}})
			continue
		}
		if n := len(out) - 1; n >= 0 && out[n].Object == b.Object {
			r := &out[n]
			if end := b.Position + b.Packed; b.Position-r.From-r.Length <= gap && end-r.From <= Most {
				r.Length = max(r.Length, end-r.From)
				r.Blobs = append(r.Blobs, b)
				continue
			}
		}
		out = append(out, Range{b.Object, b.Position, b.Packed, []records.Blob{b}})
	}
	return out
}

// Frames calls each with the frames of a range, in order, and with those blobs of the range that
// a frame contains.
func (r Range) Frames(content io.Reader, each func(list []records.Blob, frame []byte) error) error {
	at := r.From
	var room []byte
	for list := r.Blobs; len(list) > 0; {
		first, n := list[0], 1
		for n < len(list) && list[n].Position == first.Position {
			n++
		}
		room = slices.Grow(room[:0], int(first.Packed))[:first.Packed]
		_, err := io.CopyN(io.Discard, content, first.Position-at)
		if err == nil {
			_, err = io.ReadFull(content, room)
		}
		switch {
		case errors.Is(err, io.EOF):
			return io.ErrUnexpectedEOF
		case err != nil:
			return err
		}
		if err := each(list[:n], room); err != nil {
			return err
		}
		at, list = first.Position+first.Packed, list[n:]
	}
	return nil
}

// Enough tells whether a frame contains little else than these blobs: at least half of it are they.
func Enough(list []records.Blob, frame []byte) bool {
	whole, ok := pack.Contains(frame)
	return ok && plain(list) >= whole/2
}

// plain returns how many bytes of a frame blobs take, uncompressed.
func plain(list []records.Blob) (bytes int64) {
	for _, b := range list {
		bytes += pack.Plain(b.Size)
	}
	return bytes
}

// Only returns a frame that contains these blobs of a frame and nothing else: the same one if it
// has no others. It also returns the blobs, since one that is damaged is left out.
func Only(list []records.Blob, frame []byte) ([]records.Blob, []byte, error) {
	if bytes, ok := pack.Contains(frame); ok && bytes == plain(list) {
		return list, frame, nil
	}
	rows := make(map[digest.Digest]records.Blob, len(list))
	for _, b := range list {
		d, err := digest.FromBytes(b.Digest)
		if err != nil {
			return nil, nil, err
		}
		rows[d] = b
	}
	texts, err := pack.Take(frame, func(d digest.Digest) bool { _, ok := rows[d]; return ok })
	if err != nil || len(texts) == 0 {
		return nil, nil, errors.Join(err, pack.ErrDamaged)
	}
	out := make([]records.Blob, len(texts))
	for i, t := range texts {
		out[i] = rows[t.Digest]
	}
	return out, pack.Join(texts), nil
}
