package pack

import (
	"archive/tar"
	"bytes"
	"encoding/hex"
	"slices"
	"strconv"
	"time"

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

// template is the header of an empty member, without its name, its time and its sum.
var template = func() (t [block]byte) {
	var b bytes.Buffer
	if err := tar.NewWriter(&b).WriteHeader(Header(digest.Digest{1}, 0)); err != nil {
		panic(err) // of writing to memory
	}
	copy(t[:], b.Bytes())
	clear(t[:nameEnd])
	copy(t[sumAt:sumEnd], "        ")
	return t
}()

// The fields of a header (IEEE 1003.1, ustar): the name, the size and the time in octal digits,
// and the sum of the bytes, taken with spaces in place of the sum.
const (
	nameEnd, sizeAt, timeAt, timeEnd, sumAt, sumEnd = 100, 124, 136, 148, 148, 156

	hexDigest = 64
)

// headerOf returns what a writer of archives writes for [Header], with a time in seconds since
// 1970, in a fraction of its time.
func headerOf(d digest.Digest, size, modified int64) (h [block]byte) {
	h = template
	hex.Encode(h[:hexDigest], d[:])
	octal(h[sizeAt:timeAt-1], size)
	octal(h[timeAt:timeEnd-1], modified)
	sum := int64(0)
	for _, b := range h {
		sum += int64(b)
	}
	octal(h[sumAt:sumEnd-2], sum)
	h[sumEnd-2] = 0
	return h
}

// octal writes a number with leading zeros.
func octal(field []byte, n int64) {
	for i := range field {
		field[len(field)-1-i] = '0' + byte(n&7)
		n >>= 3
	}
}

// AppendMember appends a blob, of less than 8 GiB, as a member of an archive: header, contents
// and padding.
func AppendMember(to []byte, d digest.Digest, text []byte, modified time.Time) []byte {
	size := int64(len(text))
	seconds := int64(0)
	if !modified.IsZero() {
		seconds = max(0, modified.Unix())
	}
	h := headerOf(d, size, seconds)
	to = append(slices.Grow(to, int(Plain(size))), h[:]...)
	to = append(to, text...)
	var padding [block]byte
	return append(to, padding[:padded(size)-size]...)
}

// usual reads a header that is, byte for byte, as [Header] writes it.
func usual(plain []byte) (d digest.Digest, size int64, ok bool) {
	if len(plain) < block {
		return d, 0, false
	}
	h := [block]byte(plain)
	d, err := digest.Parse(string(h[:hexDigest]))
	if err != nil || d.IsZero() {
		return d, 0, false
	}
	size, err = strconv.ParseInt(string(h[sizeAt:timeAt-1]), 8, 64)
	return d, size, err == nil && size >= 0 && headerOf(d, size, 0) == h
}
