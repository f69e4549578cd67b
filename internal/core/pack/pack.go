// Package pack is the form in which small blobs are stored and sent together: a POSIX tar
// archive (IEEE 1003.1, ustar) whose members are plain files named by digest, compressed
// with Zstandard (RFC 8878). Each member, with its header and its padding, is a frame of its
// own: any choice of frames, followed by [End], is a pack again, without decompressing
// anything.
package pack

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
)

const (
	block   = 512 // bytes of a header of a member; contents are padded to a multiple of it
	trailer = 2 * block
	largest = 64 << 20 // bytes of a frame's contents
)

// Both are made when they are needed: with the frame of [End] they would take a twentieth of a
// run with nothing to do. Without checksums: the digests of members are checked.
var (
	encoder = sync.OnceValue(func() *zstd.Encoder {
		e, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderCRC(false))
		return e
	})
	decoder = sync.OnceValue(func() *zstd.Decoder {
		d, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(largest), zstd.WithDecodeAllCapLimit(true))
		return d
	})
)

// End returns the last frame of a pack.
var End = sync.OnceValue(func() []byte { return encoder().EncodeAll(make([]byte, trailer), nil) })

// Header returns the header of a member.
func Header(d digest.Digest, size int64) *tar.Header {
	return &tar.Header{Name: d.String(), Size: size, Mode: 0o444, Format: tar.FormatUSTAR}
}

// Plain returns the number of bytes that a member of so many bytes takes uncompressed.
func Plain(size int64) int64 { return block + padded(size) }

func padded(size int64) int64 { return (size + block - 1) / block * block }

// Frame returns a member as a frame.
func Frame(d digest.Digest, text []byte) []byte {
	return encoder().EncodeAll(AppendMember(nil, d, text, time.Time{}), nil)
}

// ErrDamaged is wrapped by errors about frames that do not contain what they should.
var ErrDamaged = errors.New("damaged")

// Unframe returns the blob of so many bytes in a frame, if it matches its digest.
func Unframe(frame []byte, d digest.Digest, size int64) ([]byte, error) {
	if size < 0 || size > largest-2*block {
		return nil, fmt.Errorf("blob %s in a pack: %d bytes: %w", d.Short(), size, ErrDamaged)
	}
	plain, err := decoder().DecodeAll(frame, make([]byte, 0, Plain(size)))
	if err != nil {
		return nil, fmt.Errorf("blob %s in a pack: %w: %w", d.Short(), ErrDamaged, err)
	}
	return contents(plain, d, size)
}

// contents returns the blob in the contents of a frame, if it is the expected one.
func contents(plain []byte, d digest.Digest, size int64) ([]byte, error) {
	if int64(len(plain)) != Plain(size) || digest.Of(plain[block:block+size]) != d {
		return nil, fmt.Errorf("blob %s in a pack: %w", d.Short(), ErrDamaged)
	}
	return plain[block : block+size], nil
}

// Member is a blob in a pack.
type Member struct {
	Digest   digest.Digest
	Size     int64 // bytes of the blob
	Position int64 // of its frame
	Length   int64 // of its frame
}

// Index reads a pack and returns its members. Each is checked. After an error, those before
// it are returned: a pack that was cut off is whole up to its last whole frame.
func Index(r io.Reader) ([]Member, error) {
	var out []Member
	frames := NewFrames(r)
	var room []byte
	for at := int64(0); ; {
		d, text, length, err := frames.Next(&room, largest)
		switch {
		case errors.Is(err, io.EOF):
			return out, nil
		case err != nil:
			return out, fmt.Errorf("byte %d of a pack: %w", at, err)
		}
		out = append(out, Member{d, int64(len(text)), at, length})
		at += length
	}
}

// Reader reads the members of a pack from elsewhere, within limits.
type Reader struct {
	From    *tar.Reader
	Largest int64 // bytes of one member
	Left    int64 // bytes that the members may still have together
}

// Errors of members.
var (
	ErrName  = errors.New("its name is not a digest")
	ErrForm  = errors.New("only plain ustar members are allowed, without extensions")
	ErrLarge = errors.New("it is too large")
)

// Next goes to the next member, and returns what is wrong with it before any of it is read.
// At the end the error is [io.EOF]. A sparse member, which has more bytes than arrive, is
// refused like all extensions.
func (p *Reader) Next() (d digest.Digest, size int64, err error) {
	h, err := p.From.Next()
	if err != nil {
		return d, 0, err
	}
	d, err = digest.Parse(h.Name)
	switch {
	case h.Format != tar.FormatUSTAR || h.Typeflag != tar.TypeReg || len(h.PAXRecords) > 0:
		return d, 0, fmt.Errorf("%w: %.80q", ErrForm, h.Name)
	case err != nil || d.IsZero():
		return d, 0, fmt.Errorf("%w: %.80q", ErrName, h.Name)
	case h.Size > p.Largest:
		return d, 0, fmt.Errorf("%w: the member %s has %d bytes; at most %d are allowed", ErrLarge, d.Short(), h.Size, p.Largest)
	case h.Size > p.Left:
		return d, 0, fmt.Errorf("%w: its members have too many bytes together", ErrLarge)
	}
	p.Left -= h.Size
	return d, h.Size, nil
}

// Read reads the member.
func (p *Reader) Read(b []byte) (int, error) { return p.From.Read(b) }
