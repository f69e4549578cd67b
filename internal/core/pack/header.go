package pack

import (
	"archive/tar"
	"bytes"
	"fmt"
	"strconv"

	"grayloft.example/grayloft/internal/core/digest"
)

// header reads the header of the only member of a frame. One that is as [Header] writes it needs
// no reader of archives, which makes room for each member.
func header(plain []byte, most int64) (digest.Digest, int64, error) {
	if d, size, ok := usual(plain); ok && size <= most {
		return d, size, nil
	}
	in := &Reader{From: tar.NewReader(bytes.NewReader(plain)), Largest: most, Left: most}
	return in.Next()
}

// template is the header of an empty member, without its name and its sum.
var template = func() (t [block]byte) {
	h, err := member(digest.Digest{1}, nil, 0)
	if err != nil {
		panic(err) // of writing to memory
	}
	copy(t[:], h)
	clear(t[:nameEnd])
	clear(t[sumAt:sumEnd])
	return t
}()

// The fields of a header (IEEE 1003.1, ustar): the name, the size in octal digits, and the sum
// of the bytes, taken with spaces in place of the sum.
const (
	nameEnd, sizeAt, sizeEnd, sumAt, sumEnd = 100, 124, 136, 148, 156
	hexDigest                               = 64
)

// usual reads a header that is, byte for byte, as [Header] writes it.
func usual(plain []byte) (d digest.Digest, size int64, ok bool) {
	if len(plain) < block {
		return d, 0, false
	}
	h := [block]byte(plain)
	d, err := digest.Parse(string(h[:hexDigest]))
	if err != nil || d.IsZero() || bytes.ContainsFunc(h[hexDigest:nameEnd], func(r rune) bool { return r != 0 }) {
		return d, 0, false
	}
	size, err = strconv.ParseInt(string(h[sizeAt:sizeEnd-1]), 8, 64)
	if err != nil || size < 0 || h[sizeEnd-1] != 0 {
		return d, 0, false
	}
	want, sum := template, int64(0)
	copy(want[:nameEnd], h[:nameEnd])
	copy(want[sizeAt:], fmt.Sprintf("%011o", size))
	copy(want[sumAt:], "        ")
	for _, b := range want {
		sum += int64(b)
	}
	copy(want[sumAt:], fmt.Sprintf("%06o\x00 ", sum))
	return d, size, want == h
}
