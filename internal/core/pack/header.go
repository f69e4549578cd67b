package pack

import (
	"archive/tar"
	"bytes"
	"encoding/hex"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// header reads the header of a member. One that is as [Header] writes it needs no reader of
// archives, which makes room for each member.
func header(plain []byte, most int64) (d digest.Digest, size int64, isUsual bool, err error) {
	if d, size, ok := usual(plain); ok && size <= most {
		return d, size, true, nil
	}
	in := &Reader{From: tar.NewReader(bytes.NewReader(plain)), Largest: most, Left: most}
	d, size, err = in.Next()
	return d, size, false, err
}

// padding is what follows a member up to the next one.
var padding [block]byte

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

// templateSum is the sum of the bytes of the template, whose name, size and time are empty.
var templateSum = sumOf(template[:])

func sumOf(text []byte) (sum int64) {
	for _, b := range text {
		sum += int64(b)
	}
	return sum
}

// headerOf returns what a writer of archives writes for [Header], with something after the name and
// a time in seconds since 1970, in a fraction of its time.
func headerOf(d digest.Digest, suffix string, size, modified int64) (h [block]byte) {
	h = template
	hex.Encode(h[:hexDigest], d[:])
	copy(h[hexDigest:nameEnd], suffix)
	octal(h[sizeAt:timeAt-1], size)
	octal(h[timeAt:timeEnd-1], modified)
	octal(h[sumAt:sumEnd-2], sumOfHeader(&h))
	h[sumEnd-2] = 0
	return h
}

// sumOfHeader is the sum of a header that differs from the template in its name, its size and its
// time alone.
func sumOfHeader(h *[block]byte) int64 {
	return templateSum + sumOf(h[:nameEnd]) + sumOf(h[sizeAt:timeEnd]) - sumOf(template[sizeAt:timeEnd])
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
	return appendFile(to, d, "", text, modified)
}

// FrameSuffix is what follows the digest in the name of a member that is itself a frame. Such a
// member is in archives on a machine alone.
const FrameSuffix = ".tar.zst"

// AppendFrame appends a frame as a member of an archive, named by its first blob.
func AppendFrame(to []byte, first digest.Digest, frame []byte, modified time.Time) []byte {
	return appendFile(to, first, FrameSuffix, frame, modified)
}

func appendFile(to []byte, d digest.Digest, suffix string, text []byte, modified time.Time) []byte {
	size := int64(len(text))
	seconds := int64(0)
	if !modified.IsZero() {
		seconds = max(0, modified.Unix())
	}
	h := headerOf(d, suffix, size, seconds)
	to = append(slices.Grow(to, int(Plain(size))), h[:]...)
	to = append(to, text...)
	return append(to, padding[:padded(size)-size]...)
}

// usual reads a header that is, byte for byte, as [Header] writes it.
func usual(plain []byte) (d digest.Digest, size int64, ok bool) {
	if len(plain) < block {
		return d, 0, false
	}
	h := (*[block]byte)(plain)
	if !bytes.Equal(h[hexDigest:sizeAt], template[hexDigest:sizeAt]) || !bytes.Equal(h[timeAt-1:sumAt], template[timeAt-1:sumAt]) ||
		!bytes.Equal(h[sumEnd:], template[sumEnd:]) || h[sumEnd-2] != 0 || h[sumEnd-1] != ' ' {
		return d, 0, false
	}
	size, ok = number(h[sizeAt : timeAt-1])
	sum, isNumber := number(h[sumAt : sumEnd-2])
	if !ok || !isNumber || sum != sumOfHeader(h) {
		return d, 0, false
	}
	d, err := digest.ParseText(h[:hexDigest])
	return d, size, err == nil
}

// number reads what octal writes.
func number(field []byte) (n int64, ok bool) {
	for _, b := range field {
		if b < '0' || b > '7' {
			return 0, false
		}
		n = n<<3 | int64(b-'0')
	}
	return n, true
}
