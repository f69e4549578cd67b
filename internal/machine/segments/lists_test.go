package segments_test

import (
	"archive/tar"
	"errors"
	"io"
	"os"
	"testing"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/machine/segments"
)

// Several writers add lists that overlap: each blob is there once in each one's set.
func TestListsThatOverlapAreAddedOnce(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	defer s.Close()
	add(t, s, 0, 20)
	var group errgroup.Group
	for w := range 4 {
		group.Go(func() error {
			var list []pack.Blob
			for i := 10 * w; i < 10*w+60; i++ {
				list = append(list, pack.Blob{Digest: digest.Of(text(i)), Text: text(i)}, pack.Blob{Digest: digest.Of(text(i)), Text: text(i)})
			}
			return s.AddAll(list)
		})
	}
	if err := group.Wait(); err != nil {
		t.Fatal(err)
	}
	if err := s.Flush(); err != nil {
		t.Fatal(err)
	}
	others := segments.Open(dir)
	if n, m := readable(t, s, 90), readable(t, others, 90); n != 90 || m != 90 {
		t.Errorf("%d here and %d elsewhere of 90 can be read", n, m)
	}
	if members := members(t, dir); members != 90 {
		t.Errorf("the segments have %d members for 90 blobs", members)
	}
}

// members returns how many members the archives in a directory have.
func members(t *testing.T, dir string) (n int) {
	for _, file := range files(t, dir) {
		f, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		in := tar.NewReader(f)
		for _, err = in.Next(); err == nil; _, err = in.Next() {
			n++
		}
		if !errors.Is(err, io.EOF) {
			t.Fatal(err)
		}
	}
	return n
}
