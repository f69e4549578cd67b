package pack

import (
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

// Whatever is in a header, the short way to read it says what a reader of archives says, or
// leaves it to that one.
func TestUsualHeadersAreReadLikeAllOthers(t *testing.T) {
	for _, size := range []int64{0, 1, 511, 512, 513, 1 << 20} {
		plain, err := member(digest.Of([]byte("a")), make([]byte, size), size)
		if err != nil {
			t.Fatal(err)
		}
		d, n, ok := usual(plain)
		if !ok || d != digest.Of([]byte("a")) || n != size {
			t.Errorf("%d bytes: %v, %d, %v", size, d, n, ok)
		}
		for at := range block {
			for _, to := range []byte{0, ' ', '0', '1', 'x', plain[at] ^ 0x20} {
				was := plain[at]
				plain[at] = to
				if _, _, ok := usual(plain); ok && to != was {
					t.Errorf("%d bytes: byte %d of the header is %q, and nobody noticed", size, at, to)
				}
				plain[at] = was
			}
		}
	}
	if _, _, ok := usual(make([]byte, block-1)); ok {
		t.Error("half a header")
	}
}
