package protocol

import (
	"encoding/binary"
	"math"

	"grayloft.example/grayloft/internal/core/digest"
)

// Major types of CBOR (RFC 8949, section 3.1).
const (
	cborUnsigned = iota
	cborNegative
	cborBytes
	cborText
	cborArray
	cborMap
)

const (
	cborNull   = 0xf6
	cborDouble = 0xfb
)

// cborItems are encoded items of CBOR (RFC 8949). A lookup answers thousands of entries, for
// which encoding by reflection takes several times as long.
type cborItems []byte

// head appends the head of an item: its major type, and its value or length in the fewest bytes.
func (c cborItems) head(major byte, n uint64) cborItems {
	major <<= 5
	switch {
	case n < 24:
		return append(c, major|byte(n))
	case n <= math.MaxUint8:
		return append(c, major|24, byte(n))
	case n <= math.MaxUint16:
		return binary.BigEndian.AppendUint16(append(c, major|25), uint16(n))
	case n <= math.MaxUint32:
		return binary.BigEndian.AppendUint32(append(c, major|26), uint32(n))
	default:
		return binary.BigEndian.AppendUint64(append(c, major|27), n)
	}
}

func (c cborItems) integer(n int64) cborItems {
	if n < 0 {
		return c.head(cborNegative, uint64(^n))
	}
	return c.head(cborUnsigned, uint64(n))
}

func (c cborItems) double(f float64) cborItems {
	return binary.BigEndian.AppendUint64(append(c, cborDouble), math.Float64bits(f))
}

func (c cborItems) text(s string) cborItems { return append(c.head(cborText, uint64(len(s))), s...) }

// list appends the head of an array, or null for an empty one.
func (c cborItems) list(n int) cborItems {
	if n == 0 {
		return append(c, cborNull)
	}
	return c.head(cborArray, uint64(n))
}

// digest appends the bytes of a digest, or null for none.
func (c cborItems) digest(d *digest.Digest) cborItems {
	if d.IsZero() {
		return append(c, cborNull)
	}
	return append(c.head(cborBytes, digest.Size), d[:]...)
}

// entry appends an entry, whose maker has a number.
func (c cborItems) entry(e *Entry, maker int) cborItems {
	c = c.list(compactFields).text(e.Shelf).text(e.Task)
	for _, d := range [...]*digest.Digest{&e.Key, &e.EarlyKey, &e.Listing, &e.Log, &e.Ingredients, &e.Reports} {
		c = c.digest(d)
	}
	c = c.double(e.Seconds).integer(e.Bytes).integer(int64(maker)).integer(e.MadeBy.At.UnixMicro())
	c = c.list(len(e.CheckoutPaths))
	for _, p := range e.CheckoutPaths {
		c = c.text(p)
	}
	c = c.list(len(e.Refs))
	for i := range e.Refs {
		c = c.digest(&e.Refs[i])
	}
	return c
}
