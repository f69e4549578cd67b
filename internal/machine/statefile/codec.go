package statefile

import (
	"encoding/binary"
	"slices"

	"grayloft.example/grayloft/internal/core/digest"
)

// Writer writes the fields of a file. Numbers are unsigned varints or 8 bytes,
// little-endian; texts are preceded by their length.
type Writer struct{ b []byte }

// NewWriter returns an empty writer with room for that many bytes.
func NewWriter(room int) *Writer { return &Writer{make([]byte, 0, room)} }

// Room makes room for that many more bytes.
func (w *Writer) Room(n int) { w.b = slices.Grow(w.b, n) }

// Uint writes an unsigned varint.
func (w *Writer) Uint(n uint64) { w.b = binary.AppendUvarint(w.b, n) }

// Fixed writes 8 bytes.
func (w *Writer) Fixed(n uint64) { w.b = binary.LittleEndian.AppendUint64(w.b, n) }

// Text writes a text.
func (w *Writer) Text(s string) {
	w.Uint(uint64(len(s)))
	w.b = append(w.b, s...)
}

// Digest writes a digest.
func (w *Writer) Digest(d digest.Digest) { w.b = append(w.b, d[:]...) }

// Reader reads what [Writer] wrote. After the first error it returns zero
// values.
type Reader struct {
	text   string // what is left; texts are slices of it
	failed bool
}

// NewReader returns a reader of a body.
func NewReader(body string) *Reader { return &Reader{text: body} }

// Done tells whether everything was read without an error.
func (r *Reader) Done() bool { return !r.failed && r.text == "" }

// More tells whether there is more to read.
func (r *Reader) More() bool { return !r.failed && r.text != "" }

// Left returns how many bytes are still to be read.
func (r *Reader) Left() int { return len(r.text) }

// Fail marks the contents as wrong.
func (r *Reader) Fail() { r.failed, r.text = true, "" }

// Failed tells whether there was an error.
func (r *Reader) Failed() bool { return r.failed }

// Uint reads an unsigned varint.
func (r *Reader) Uint() uint64 {
	var n uint64
	for i := 0; i < len(r.text) && i < binary.MaxVarintLen64; i++ {
		c := r.text[i]
		n |= uint64(c&0x7f) << (7 * i)
		if c < 0x80 {
			r.text = r.text[i+1:]
			return n
		}
	}
	r.Fail()
	return 0
}

// Count reads a number of items that take at least so many bytes each, so that
// memory stays bounded by the size of the file.
func (r *Reader) Count(least int) int {
	n := r.Uint()
	if n > uint64(len(r.text)/least) {
		r.Fail()
		return 0
	}
	return int(n)
}

// Fixed reads 8 bytes.
func (r *Reader) Fixed() uint64 {
	s := r.take(8)
	if len(s) < 8 {
		return 0
	}
	return uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 |
		uint64(s[4])<<32 | uint64(s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
}

// Text reads a text.
func (r *Reader) Text() string { return r.take(r.Count(1)) }

// Digest reads a digest.
func (r *Reader) Digest() (d digest.Digest) {
	copy(d[:], r.take(digest.Size))
	return d
}

func (r *Reader) take(n int) string {
	if n > len(r.text) {
		r.Fail()
		return ""
	}
	s := r.text[:n]
	r.text = r.text[n:]
	return s
}
