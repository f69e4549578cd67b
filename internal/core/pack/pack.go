// Package pack is the form in which small blobs are stored and sent together: a POSIX tar
// archive (IEEE 1003.1, ustar) whose members are plain files named by digest, compressed
// with Zstandard (RFC 8878). A frame contains whole members, with their headers and their
// padding: any choice of frames, followed by [End], is a pack again, without decompressing
// anything. Small members share a frame, which makes them smaller and faster to read.
package pack

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
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

// Together is how many bytes the members of a frame take at most, uncompressed, if there are
// several.
const Together = 128 << 10

// Blob is a blob and its digest, which matches.
type Blob struct {
	Digest digest.Digest
	Text   []byte
}

// Frame returns a member as a frame.
func Frame(d digest.Digest, text []byte) []byte { return Join([]Blob{{d, text}}) }

// Join returns members as one frame. Several must fit into [Together].
func Join(members []Blob) []byte {
	plain := int64(0)
	for _, m := range members {
		plain += Plain(int64(len(m.Text)))
	}
	room := make([]byte, 0, plain)
	for _, m := range members {
		room = AppendMember(room, m.Digest, m.Text, time.Time{})
	}
	return encoder().EncodeAll(room, nil)
}

// Groups returns the numbers of blobs with these sizes that share a frame, as the ends of
// groups: those that follow each other, as long as they fit.
func Groups(sizes []int64) (ends []int) {
	plain := int64(0)
	for i, size := range sizes {
		if i > 0 && plain+Plain(size) > Together {
			ends, plain = append(ends, i), 0
		}
		plain += Plain(size)
	}
	if len(sizes) > 0 {
		ends = append(ends, len(sizes))
	}
	return ends
}

// ErrDamaged is wrapped by errors about frames that do not contain what they should.
var ErrDamaged = errors.New("damaged")

// Unframe returns the blob of so many bytes in a frame, if it matches its digest.
func Unframe(frame []byte, d digest.Digest, size int64) ([]byte, error) {
	if size < 0 || size > largest-2*block {
		return nil, fmt.Errorf("blob %s in a pack: %d bytes: %w", d.Short(), size, ErrDamaged)
	}
	list, err := take(frame, max(Plain(size), Together), func(m digest.Digest) bool { return m == d })
	switch {
	case err != nil:
		return nil, fmt.Errorf("blob %s in a pack: %w: %w", d.Short(), ErrDamaged, err)
	case len(list) == 0 || int64(len(list[0].Text)) != size:
		return nil, fmt.Errorf("blob %s in a pack: %w", d.Short(), ErrDamaged)
	}
	return list[0].Text, nil
}

// Take returns those blobs of a frame that are wanted, verified. One that is damaged is left out;
// an error says that the frame cannot be read.
func Take(frame []byte, wanted func(d digest.Digest) bool) ([]Blob, error) {
	return take(frame, largest, wanted)
}

func take(frame []byte, most int64, wanted func(d digest.Digest) bool) ([]Blob, error) {
	var room []byte
	plain, err := unpack(frame, &room, 0, most)
	if err != nil {
		return nil, err
	}
	list, _, err := members(plain, most, nil)
	list = slices.DeleteFunc(list, func(m Blob) bool { return !wanted(m.Digest) })
	found, _ := sums(list, nil, nil)
	whole := list[:0]
	for i, m := range list {
		if found[i] == m.Digest {
			whole = append(whole, m)
		}
	}
	return whole, err
}

// members appends the members in the contents of a frame, not verified, each of at most so many
// bytes. Own tells whether the contents are, byte for byte, what [Join] compresses.
func members(plain []byte, most int64, to []Blob) (list []Blob, own bool, err error) {
	own = true
	for rest := plain; len(rest) > 0 || len(to) == 0; {
		d, size, isUsual, err := header(rest, most)
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), err == nil && Plain(size) > int64(len(rest)):
			return nil, false, ErrDamaged // the frame, not the pack
		case err != nil:
			return nil, false, err
		}
		end := Plain(size)
		own = own && isUsual && bytes.Equal(rest[block+size:end], padding[:end-block-size])
		to = append(to, Blob{d, rest[block : block+size]})
		rest = rest[end:]
	}
	if len(to) > 1 && len(plain) > Together {
		return nil, false, fmt.Errorf("a frame with %d members of %d bytes together: %w", len(to), len(plain), ErrDamaged)
	}
	return to, own, nil
}

// Member is a blob in a pack.
type Member struct {
	Digest   digest.Digest
	Size     int64 // bytes of the blob
	Position int64 // of its frame, which others may share
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
		if !frames.More() {
			at += length
		}
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
