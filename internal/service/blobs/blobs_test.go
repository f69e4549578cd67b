package blobs_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"grayloft.example/grayloft/internal/service/blobs"
)

// conform tests a store against the contract of [blobs.Store].
func conform(t *testing.T, s blobs.Store) {
	ctx := context.Background()
	text := bytes.Repeat([]byte("tide "), 40000)
	if err := s.Put(ctx, "1/ab/object", bytes.NewReader(text)); err != nil {
		t.Fatal(err)
	}
	all := int64(len(text))
	for _, part := range [][2]int64{{0, all}, {0, 1}, {all - 1, 1}, {17, 100_000}, {5, 0}, {all - 10, 100}} {
		r, err := s.Open(ctx, "1/ab/object", part[0], part[1])
		if err != nil {
			t.Fatal(part, err)
		}
		got, err := io.ReadAll(r)
		r.Close()
		if want := text[part[0]:min(all, part[0]+part[1])]; err != nil || !bytes.Equal(got, want) {
			t.Errorf("%v: %d bytes came back, %v", part, len(got), err)
		}
	}
	large := bytes.Repeat([]byte("0123456789abcdef"), 600_000) // more than is kept in memory
	if err := s.Put(ctx, "1/ab/large", bytes.NewReader(large)); err != nil {
		t.Fatal(err)
	}
	if r, err := s.Open(ctx, "1/ab/large", 0, int64(len(large))); err != nil {
		t.Error(err)
	} else {
		got, err := io.ReadAll(r)
		r.Close()
		if err != nil || !bytes.Equal(got, large) {
			t.Errorf("of %d bytes, %d came back, %v", len(large), len(got), err)
		}
	}
	if err := s.Put(ctx, "1/ab/empty", bytes.NewReader(nil)); err != nil {
		t.Error(err)
	}
	if err := s.Put(ctx, "1/ab/cut", io.MultiReader(bytes.NewReader(large), failing{})); !errors.Is(err, errFailing) {
		t.Errorf("a large body that failed: %v", err)
	}
	broken := io.MultiReader(bytes.NewReader(text), failing{})
	if err := s.Put(ctx, "1/ab/broken", broken); !errors.Is(err, errFailing) {
		t.Errorf("a body that failed: %v", err)
	}
	for _, name := range []string{"1/ab/broken", "1/ab/cut", "1/ab/never"} {
		if _, err := s.Open(ctx, name, 0, 1); !errors.Is(err, blobs.ErrNotExist) {
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
	if _, err := s.Open(ctx, "1/ab/object", 0, 1); !errors.Is(err, blobs.ErrNotExist) {
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

// bucket serves a bucket on loopback. Before sees every request first, and
// answers it itself if it returns true.
func bucket(t *testing.T, before func(w http.ResponseWriter, r *http.Request) bool) (address string) {
	backend := s3mem.New()
	if err := backend.CreateBucket("loft"); err != nil {
		t.Fatal(err)
	}
	inner := gofakes3.New(backend).Server()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if before == nil || !before(w, r) {
			inner.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(srv.Close)
	return srv.URL + "/loft/kept/here?region=eu-north-1"
}

func TestBucket(t *testing.T) {
	b, err := blobs.OpenBucket(context.Background(), bucket(t, nil), "key", "secret")
	if err != nil {
		t.Fatal(err)
	}
	conform(t, b)
}

func TestABucketThatFailsEveryThirdCallLosesNothing(t *testing.T) {
	var calls, failed atomic.Int64
	b, err := blobs.OpenBucket(context.Background(), bucket(t, func(w http.ResponseWriter, r *http.Request) bool {
		n := calls.Add(1)
		if n%3 != 0 {
			return false
		}
		failed.Add(1)
		if n%2 == 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return true
		}
		panic(http.ErrAbortHandler) // the connection is cut
	}), "key", "secret")
	if err != nil {
		t.Fatal(err)
	}
	conform(t, b)
	ctx := context.Background()
	for i := range 30 {
		name, text := fmt.Sprintf("2/aa/%d", i), bytes.Repeat([]byte{byte(i)}, 1000+i)
		if err := b.Put(ctx, name, bytes.NewReader(text)); err != nil {
			t.Fatal(err)
		}
		r, err := b.Open(ctx, name, 0, int64(len(text)))
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(r)
		r.Close()
		if err != nil || !bytes.Equal(got, text) {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
	}
	if failed.Load() < 20 {
		t.Errorf("only %d of %d calls failed", failed.Load(), calls.Load())
	}
}

func TestABucketThatCutsItsAnswersIsReadToTheEnd(t *testing.T) {
	var cut atomic.Int64
	b, err := blobs.OpenBucket(context.Background(), bucket(t, func(w http.ResponseWriter, r *http.Request) bool { return false }), "key", "secret")
	if err != nil {
		t.Fatal(err)
	}
	text := bytes.Repeat([]byte("tide table "), 50_000)
	if err := b.Put(context.Background(), "3/x", bytes.NewReader(text)); err != nil {
		t.Fatal(err)
	}
	// A line in between that closes the connection after every 100,000 bytes of
	// an answer.
	lossy := bucketBehind(t, text, &cut)
	c, err := blobs.OpenBucket(context.Background(), lossy, "key", "secret")
	if err != nil {
		t.Fatal(err)
	}
	r, err := c.Open(context.Background(), "3/x", 0, int64(len(text)))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if got, err := io.ReadAll(r); err != nil || !bytes.Equal(got, text) {
		t.Errorf("%d of %d bytes, %v", len(got), len(text), err)
	}
	if cut.Load() < 4 {
		t.Errorf("it was cut %d times", cut.Load())
	}
}

// bucketBehind serves one object, closing the connection after 100,000 bytes of
// it.
func bucketBehind(t *testing.T, text []byte, cut *atomic.Int64) string {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/loft/" {
			return
		}
		var from, to int
		if _, err := fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-%d", &from, &to); err != nil {
			t.Error(err)
		}
		w.Header().Set("ETag", `"x"`)
		w.Header().Set("Last-Modified", "Mon, 23 Nov 2026 10:00:00 GMT")
		w.Header().Set("Content-Length", fmt.Sprint(to-from+1))
		w.WriteHeader(http.StatusPartialContent)
		if to-from < 100_000 {
			_, _ = w.Write(text[from : to+1])
			return
		}
		_, _ = w.Write(text[from : from+100_000])
		cut.Add(1)
		panic(http.ErrAbortHandler)
	}))
	t.Cleanup(srv.Close)
	return srv.URL + "/loft?region=x"
}

func TestAMissingBucketIsNamed(t *testing.T) {
	for _, address := range []string{"loft", "https://", "https://host.example", "ftp://host.example/loft", strings.Replace(bucket(t, nil), "/loft/", "/other/", 1)} {
		if _, err := blobs.OpenBucket(context.Background(), address, "k", "s"); err == nil || !strings.Contains(err.Error(), "bucket") {
			t.Errorf("%s: %v", address, err)
		}
	}
}
