package needle

import (
	"bytes"
	"testing"

	"golang.org/x/sys/unix"
)

// Nothing behind the data is read: there may be nothing.
func TestNothingBehindTheDataIsRead(t *testing.T) {
	page := unix.Getpagesize()
	room, err := unix.Mmap(-1, 0, 2*page, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|unix.MAP_ANON)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = unix.Munmap(room) }()
	if err := unix.Mprotect(room[page:], unix.PROT_NONE); err != nil {
		t.Fatal(err)
	}
	copy(room, bytes.Repeat([]byte("/home"), page/5))
	for _, text := range []string{"/home/brenna/work/skerry/", "e/", "/homf"} {
		n := New(text)
		for size := range 300 {
			data := room[page-size : page]
			if got, want := n.Index(data), bytes.Index(data, []byte(text)); got != want {
				t.Fatalf("%q in %d bytes: %d instead of %d", text, size, got, want)
			}
		}
	}
}
