package pack

import (
	"archive/tar"
	"bytes"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

func TestMembersAreWhatAWriterOfArchivesWrites(t *testing.T) {
	for _, size := range []int64{0, 1, 511, 512, 513, 1 << 20} {
		for _, modified := range []time.Time{{}, time.Unix(1, 0), time.Unix(1_795_000_000, 0)} {
			text := bytes.Repeat([]byte("t"), int(size))
			var want bytes.Buffer
			w := tar.NewWriter(&want)
			h := Header(digest.Of(text), size)
			h.ModTime = modified
			if err := w.WriteHeader(h); err != nil {
				t.Fatal(err)
			}
			if _, err := w.Write(text); err != nil {
				t.Fatal(err)
			}
			if err := w.Flush(); err != nil {
				t.Fatal(err)
			}
			if got := AppendMember([]byte("before"), digest.Of(text), text, modified); string(got) != "before"+want.String() {
				t.Errorf("%d bytes, %v: it differs", size, modified)
			}
		}
	}
}

// Whatever is in a header, the short way to read it says what a reader of archives says, or
// leaves it to that one.
func TestUsualHeadersAreReadLikeAllOthers(t *testing.T) {
	for _, size := range []int64{0, 1, 511, 512, 513, 1 << 20} {
		plain := AppendMember(nil, digest.Of([]byte("a")), make([]byte, size), time.Time{})
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
