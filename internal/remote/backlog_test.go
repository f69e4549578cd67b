package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
)

// fullDisk is a store on a disk without space.
type fullDisk struct{ *memory }

var errFull = &fs.PathError{Op: "write", Path: "/cache/blob", Err: syscall.ENOSPC}

func (fullDisk) Keep(_ digest.Digest, r io.Reader) error {
	_, _ = io.CopyN(io.Discard, r, 1)
	return errFull
}

func (fullDisk) KeepTexts([]pack.Blob) error { return errFull }

func (fullDisk) KeepFrame([]byte, []pack.Blob) error { return errFull }

func (fullDisk) Partial(digest.Digest, int64, int64) (protocol.Pieces, error) { return noPieces{}, nil }

type noPieces struct{}

func (noPieces) Missing() []int        { return []int{0} }
func (noPieces) Put(int, []byte) error { return errFull }
func (noPieces) Keep() error           { return errFull }
func (noPieces) Close()                {}

func TestAFullDiskIsNotTakenForAFailureOfTheService(t *testing.T) {
	text, big := large(3 << 20)
	small := []byte("small")
	c, m, said := client(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/packs/fetch") {
			w.Write(packOf([]string{digest.Of(small).String()}, string(small)))
			return
		}
		w.Write(text)
	})
	c.store = fullDisk{m}
	for what, b := range map[string]protocol.Blob{"in a pack": {Digest: digest.Of(small), Size: 5}, "in pieces": big} {
		if _, err := c.Fetch(t.Context(), []protocol.Blob{b}); !errors.Is(err, syscall.ENOSPC) {
			t.Errorf("a blob %s: %v; want the error of the disk", what, err)
		}
		if c.Down() || len(*said) > 0 {
			t.Errorf("a blob %s: the service was given up: %q", what, *said)
		}
	}
}

// A service that takes the backlog byte by byte must not delay the end of a run
// for longer than its limit.
func TestTheBacklogDelaysTheEndOfARunWithinABound(t *testing.T) {
	blob, _ := large(1 << 20)
	d := digest.Of(blob)
	began := make(chan bool, 1)
	ctx, cancel := context.WithCancel(t.Context())
	c, m, _ := client(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasSuffix(r.URL.Path, "/self"):
			_ = json.NewEncoder(w).Encode(protocol.Self{Name: "x", Repo: "test", WritesTo: "s"})
		case strings.HasSuffix(r.URL.Path, "/blobs/missing"):
			_ = json.NewEncoder(w).Encode(protocol.Digests{Digests: []digest.Digest{d}})
		case strings.HasSuffix(r.URL.Path, "/packs"):
			began <- true
			for one := make([]byte, 1); ctx.Err() == nil; {
				if _, err := r.Body.Read(one); err != nil {
					return
				}
				time.Sleep(50 * time.Millisecond)
			}
		default:
			fmt.Fprint(w, "{}")
		}
	})
	defer cancel()
	m.blobs[d] = blob
	e := protocol.Entry{Key: digest.Of([]byte("k")), Task: "a@b", Listing: d, Ingredients: d}
	item, err := json.Marshal(
		spooled{Service: c.base, Repo: "test", Token: c.identity(), Entry: &e, Blobs: []protocol.Blob{{Digest: d, Size: 1 << 20}}},
	)
	if err != nil {
		t.Fatal(err)
	}
	m.spool["entry-a"] = item
	if _, err := c.Self(t.Context()); err != nil {
		t.Fatal(err)
	}
	<-began
	rec := Record(c, "a-run-of-the-test", aRun, func() protocol.Graph { return protocol.Graph{} })
	finished := make(chan bool)
	go func() { rec.Finish(protocol.RunFinish{OK: true}); close(finished) }()
	select {
	case <-finished:
	case <-time.After(12 * time.Second):
		t.Fatal("the run still waits for the backlog")
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.spool["entry-a"] == nil {
		t.Error("what was not sent must wait for a later run")
	}
}
