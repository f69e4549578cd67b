// Package pack is the form in which small blobs are stored and sent together: a POSIX tar
// archive (IEEE 1003.1, ustar) whose members are plain files named by digest, compressed
// with Zstandard (RFC 8878). Each member, with its header and its padding, is a frame of its
// own: any choice of frames, followed by [End], is a pack again, without decompressing
// anything.
package pack

import (
	"archive/tar"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
)

const (
	block   = 512 // bytes of a header of a member; contents are padded to a multiple of it
	trailer = 2 * block
	largest = 64 << 20 // bytes of a frame's contents
)

var (
	// Without checksums: the digests of members are checked.
	encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false))
	decoder, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(largest), zstd.WithDecodeAllCapLimit(true))

	// End is the last frame of a pack.
	End = encoder.EncodeAll(make([]byte, trailer), nil)
)

// Header returns the header of a member.
func Header(d digest.Digest, size int64) *tar.Header {
	return &tar.Header{Name: d.String(), Size: size, Mode: 0o444, Format: tar.FormatUSTAR}
}

func padded(size int64) int64 { return (size + block - 1) / block * block }

// Frame returns a member as a frame.
func Frame(d digest.Digest, text []byte) ([]byte, error) {
	var plain bytes.Buffer
	plain.Grow(block + int(padded(int64(len(text)))))
	w := tar.NewWriter(&plain)
	if err := w.WriteHeader(Header(d, int64(len(text)))); err != nil {
		return nil, err
	}
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	return encoder.EncodeAll(plain.Bytes(), nil), nil
}

// ErrDamaged is wrapped by errors about frames that do not contain what they should.
var ErrDamaged = errors.New("damaged")

// Unframe returns the blob of so many bytes in a frame, if it matches its digest.
func Unframe(frame []byte, d digest.Digest, size int64) ([]byte, error) {
	if size < 0 || size > largest-2*block {
		return nil, fmt.Errorf("blob %s in a pack: %d bytes: %w", d.Short(), size, ErrDamaged)
	}
	plain, err := decoder.DecodeAll(frame, make([]byte, 0, block+padded(size)))
	if err != nil {
		return nil, fmt.Errorf("blob %s in a pack: %w: %w", d.Short(), ErrDamaged, err)
	}
	if int64(len(plain)) != block+padded(size) || digest.Of(plain[block:block+size]) != d {
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
	for at := int64(0); ; {
		frame, err := readFrame(r)
		if errors.Is(err, io.EOF) {
			return out, fmt.Errorf("a pack without its end: %w", io.ErrUnexpectedEOF)
		}
		if err != nil {
			return out, err
		}
		var h zstd.Header
		if err := h.Decode(frame); err != nil || !h.HasFCS || h.FrameContentSize > largest {
			return out, fmt.Errorf("byte %d of a pack: %w", at, ErrDamaged)
		}
		plain, err := decoder.DecodeAll(frame, make([]byte, 0, h.FrameContentSize))
		if err != nil {
			return out, fmt.Errorf("byte %d of a pack: %w: %w", at, ErrDamaged, err)
		}
		if len(plain) == trailer && !slices.ContainsFunc(plain, func(b byte) bool { return b != 0 }) {
			return out, nil
		}
		m, err := member(plain)
		if err != nil {
			return out, fmt.Errorf("byte %d of a pack: %w", at, err)
		}
		m.Position, m.Length = at, int64(len(frame))
		out = append(out, m)
		at += m.Length
	}
}

// member reads the contents of a frame.
func member(plain []byte) (Member, error) {
	in := &Reader{From: tar.NewReader(bytes.NewReader(plain)), Largest: largest, Left: largest}
	d, size, err := in.Next()
	if err != nil {
		return Member{}, err
	}
	if int64(len(plain)) != block+padded(size) || digest.Of(plain[block:block+size]) != d {
		return Member{}, fmt.Errorf("member %s: %w", d.Short(), ErrDamaged)
	}
	return Member{Digest: d, Size: size}, nil
}

// readFrame reads one frame, and returns it as it is. At the end the error is [io.EOF].
func readFrame(r io.Reader) ([]byte, error) {
	f := &frameReader{from: r}
	head := f.take(5)
	if f.err != nil {
		if len(f.read) == 0 && errors.Is(f.err, io.EOF) {
			return nil, io.EOF
		}
		return nil, f.fail()
	}
	if binary.LittleEndian.Uint32(head) != 0xFD2FB528 {
		return nil, fmt.Errorf("not a frame of a pack: %w", ErrDamaged)
	}
	// RFC 8878, section 3.1.1.1: the descriptor says which fields follow.
	flags := head[4]
	single, checksum := flags&0x20 != 0, flags&0x04 != 0
	rest := []int{0, 1, 2, 4}[flags&3] + []int{0, 2, 4, 8}[flags>>6]
	if !single || flags>>6 == 0 {
		rest++ // the window, or a size of one byte
	}
	f.take(rest)
	for last := false; !last && f.err == nil; {
		b := f.take(3)
		if f.err != nil {
			break
		}
		v := uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16
		last = v&1 != 0
		length := int(v >> 3)
		if v>>1&3 == 1 {
			length = 1 // one byte, repeated
		}
		f.take(length)
	}
	if checksum {
		f.take(4)
	}
	return f.read, f.fail()
}

// frameReader collects what it reads.
type frameReader struct {
	from io.Reader
	read []byte
	err  error
}

func (f *frameReader) take(n int) []byte {
	if f.err != nil {
		return nil
	}
	at := len(f.read)
	if at+n > largest {
		f.err = fmt.Errorf("a frame of more than %d bytes: %w", largest, ErrDamaged)
		return nil
	}
	f.read = slices.Grow(f.read, n)[:at+n]
	var got int
	if got, f.err = io.ReadFull(f.from, f.read[at:]); f.err != nil {
		f.read = f.read[:at+got]
	}
	return f.read[at:]
}

func (f *frameReader) fail() error {
	if errors.Is(f.err, io.EOF) {
		return fmt.Errorf("a pack was cut off: %w", io.ErrUnexpectedEOF)
	}
	return f.err
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
