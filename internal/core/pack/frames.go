package pack

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
)

// Frames reads a pack frame by frame.
type Frames struct {
	from  *bufio.Reader
	read  []byte
	plain []byte          // of the last frame
	list  []Blob          // members of the last frame
	own   bool            // they are as [Join] makes them
	sums  []digest.Digest // of their texts
	texts [][]byte        // room for these
	at    int             // of the next member
	err   error
}

// NewFrames returns the frames of a pack.
func NewFrames(r io.Reader) *Frames { return &Frames{from: bufio.NewReaderSize(r, 256<<10)} }

// More tells whether the frame of the last blob contains another one.
func (f *Frames) More() bool { return f.at < len(f.list) }

// Members returns how many blobs the frame of the last one contains.
func (f *Frames) Members() int { return len(f.list) }

// Next returns the next blob, which matches its digest and has at most so many bytes, and the
// length of its frame. The contents are in room, which grows as necessary. After the last
// blob the error is [io.EOF]; if the pack was cut off, it wraps [io.ErrUnexpectedEOF]. After an
// error with a digest, which is about that blob alone, reading can go on.
func (f *Frames) Next(room *[]byte, most int64) (d digest.Digest, text []byte, length int64, err error) {
	if !f.More() {
		if err := f.nextFrame(room, most); err != nil {
			return d, nil, 0, err
		}
	}
	m, sum := f.list[f.at], f.sums[f.at]
	f.at++
	switch {
	case int64(len(m.Text)) > most:
		return digest.Digest{}, nil, 0, fmt.Errorf(
			"%w: the member %s has %d bytes; at most %d are allowed",
			ErrLarge,
			m.Digest.Short(),
			len(m.Text),
			most,
		)
	case sum != m.Digest:
		return m.Digest, nil, 0, fmt.Errorf("blob %s in a pack: %w", m.Digest.Short(), ErrDamaged)
	}
	return m.Digest, m.Text, int64(len(f.read)), nil
}

// nextFrame reads a frame, decompresses it, and computes the digests of its members.
func (f *Frames) nextFrame(room *[]byte, most int64) error {
	f.list, f.at = f.list[:0], 0
	frame, err := f.next()
	if err != nil {
		return err
	}
	if f.plain, err = unpack(frame, room, spare, max(most+2*block, Together)); err != nil {
		return err
	}
	if len(f.plain) == trailer && isZero(f.plain) {
		return io.EOF
	}
	f.list, f.own, err = members(f.plain, max(most, Together), f.list)
	f.sums, f.texts = sums(f.list, f.sums, f.texts[:0])
	return err
}

// sums returns the digests of the contents of members, in room for them.
func sums(list []Blob, room []digest.Digest, texts [][]byte) ([]digest.Digest, [][]byte) {
	for _, m := range list {
		texts = append(texts, m.Text)
	}
	return digest.OfEach(texts, room), texts
}

func isZero(text []byte) bool { return !slices.ContainsFunc(text, func(b byte) bool { return b != 0 }) }

// mostWindow is how many bytes readers of frames have to remember at most.
const mostWindow = 8 << 20

// Frame returns the frame of the last blob, until the next one is read, if it can be stored as it
// is: its contents are what the function [Join] compresses, and it is not larger than they are. A
// frame that somebody else made can differ, and contain the same blobs.
func (f *Frames) Frame() (frame []byte, ok bool) {
	var h zstd.Header
	if err := h.Decode(f.read); err != nil || h.WindowSize > mostWindow || !f.own || len(f.read) > len(f.plain)+block {
		return nil, false
	}
	return f.read, true
}

// Contains returns how many bytes a frame contains, uncompressed.
func Contains(frame []byte) (bytes int64, ok bool) {
	var h zstd.Header
	if err := h.Decode(frame); err != nil || !h.HasFCS || h.FrameContentSize > largest {
		return 0, false
	}
	return int64(h.FrameContentSize), true
}

// spare is how many bytes of room beyond its result the fast decompression takes.
const spare = 256 << 10

// unpack decompresses a frame of at most so many bytes into room, which has some bytes to spare. The
// frame must state its size.
func unpack(frame []byte, room *[]byte, spare int, most int64) ([]byte, error) {
	var h zstd.Header
	if err := h.Decode(frame); err != nil || !h.HasFCS {
		return nil, fmt.Errorf("a frame that does not state its size: %w", ErrDamaged)
	}
	if h.FrameContentSize > uint64(most) {
		return nil, fmt.Errorf("%w: a frame of %d bytes", ErrLarge, h.FrameContentSize)
	}
	need := int(h.FrameContentSize) + spare
	if cap(*room) < need {
		*room = make([]byte, 0, need)
	}
	plain, err := decoder().DecodeAll(frame, (*room)[:0:need])
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return plain, nil
}

// next reads one frame, and returns it as it is, until the next call.
func (f *Frames) next() ([]byte, error) {
	f.read = f.read[:0]
	head := f.take(5)
	if f.err != nil {
		return nil, f.fail()
	}
	if binary.LittleEndian.Uint32(head) != 0xFD2FB528 {
		return nil, fmt.Errorf("not a frame of a pack: %w", ErrDamaged)
	}
	// RFC 8878, section 3.1.1.1: the descriptor says which fields follow.
	flags := head[4]
	single, checksum := flags&0x20 != 0, flags&0x04 != 0
	rest := []int{0, 1, 2, 4}[flags&3] + []int{0, 2, 4, 8}[flags>>6]
	if !single && flags>>6 == 0 { // before it is read: it may go on for long
		return nil, fmt.Errorf("a frame that does not state its size: %w", ErrDamaged)
	}
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

// take reads so many bytes, and returns them.
func (f *Frames) take(n int) []byte {
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

func (f *Frames) fail() error {
	if errors.Is(f.err, io.EOF) {
		return fmt.Errorf("a pack was cut off: %w", io.ErrUnexpectedEOF)
	}
	return f.err
}
