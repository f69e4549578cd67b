package blobs_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"grayloft.example/grayloft/internal/service/blobs"
)

// conform holds a store to the contract of [blobs.Store].
func conform(t *testing.T, s blobs.Store) {
	ctx := context.Background()
	text := bytes.Repeat([]byte("tide "), 40000)
	if err := s.Put(ctx, "1/ab/object", bytes.NewReader(text)); err != nil {
		t.Fatal(err)
	}
	r, err := s.Open(ctx, "1/ab/object")
	if err != nil {
		t.Fatal(err)
	}
	got, err := io.ReadAll(r)
	r.Close()
	if err != nil || !bytes.Equal(got, text) {
		t.Errorf("%d bytes came back, %v", len(got), err)
	}
	broken := io.MultiReader(bytes.NewReader(text), failing{})
	if err := s.Put(ctx, "1/ab/broken", broken); !errors.Is(err, errFailing) {
		t.Errorf("a body that failed: %v", err)
	}
	for _, name := range []string{"1/ab/broken", "1/ab/never"} {
		if _, err := s.Open(ctx, name); !errors.Is(err, blobs.ErrNotExist) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, name := range []string{"", "../x", "/x", "a/../b", "a//b"} {
		if s.Put(ctx, name, bytes.NewReader(nil)) == nil {
			t.Errorf("the name %q was taken", name)
		}
	}
	for range 2 {
		if err := s.Delete(ctx, "1/ab/object"); err != nil {
			t.Error(err)
		}
	}
	if _, err := s.Open(ctx, "1/ab/object"); !errors.Is(err, blobs.ErrNotExist) {
		t.Errorf("deleted, and %v", err)
	}
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	if s.Put(cancelled, "1/x", bytes.NewReader(text)) == nil {
		t.Error("kept after the request was given up")
	}
}

var errFailing = errors.New("cut")

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errFailing }

func TestDirectory(t *testing.T) {
	root := t.TempDir()
	d, err := blobs.OpenDir(root)
	if err != nil {
		t.Fatal(err)
	}
	conform(t, d)
	left, err := os.ReadDir(filepath.Join(root, "tmp"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}
