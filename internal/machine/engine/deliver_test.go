package engine_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// shared is a shared cache.
type shared func(ctx context.Context, blobs []protocol.Blob, arrived func(digest.Digest, []byte)) (int64, error)

func (s shared) FetchAnd(ctx context.Context, blobs []protocol.Blob, arrived func(digest.Digest, []byte)) (int64, error) {
	return s(ctx, blobs, arrived)
}

func (shared) Down() bool { return false }

// delivery returns a delivery into a checkout, which has a task gen that writes gen/**.
func delivery(t *testing.T, from shared) (d *transfer.Delivery, gen *graph.Task, root string) {
	t.Helper()
	m := newMachine(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"r\"\n[task.gen]\nrun = \"true\"\nwrites = [\"gen/**\"]\n",
	})
	work := &outputs.Workspace{State: m.State, Store: m.Store, Files: m.Files, Run: "run1", Report: func(string) {}}
	return &transfer.Delivery{Work: work, Blobs: &transfer.Blobs{Store: m.Store, From: from, Now: time.Now}}, m.Graph.Tasks[0], m.dir
}

func TestWhatArrivesBeforeTheDirectoriesAreMadeIsWritten(t *testing.T) {
	var came int
	d, gen, root := delivery(t, func(_ context.Context, blobs []protocol.Blob, arrived func(digest.Digest, []byte)) (int64, error) {
		for _, b := range blobs { // at once, and not into the store
			arrived(b.Digest, []byte("text"))
			came++
		}
		return 4, nil
	})
	list := listing.List{
		{Path: "gen/a", Kind: listing.File, Digest: digest.Of([]byte("text")), Size: 4},
		{Path: "gen/deep/b", Kind: listing.File, Digest: digest.Of([]byte("text")), Size: 4},
	}
	if n, err := d.Bring(t.Context(), gen, list); err != nil || n != 4 || came != 1 {
		t.Fatalf("%d bytes, %d blobs, %v", n, came, err)
	}
	for _, row := range list {
		if text, err := os.ReadFile(filepath.Join(root, row.Path)); err != nil || string(text) != "text" {
			t.Errorf("%s: %q, %v", row.Path, text, err)
		}
	}
}

func TestARefusedListingEndsItsFetch(t *testing.T) {
	d, gen, root := delivery(t, func(ctx context.Context, blobs []protocol.Blob, arrived func(digest.Digest, []byte)) (int64, error) {
		arrived(blobs[0].Digest, []byte("text"))
		<-ctx.Done() // otherwise the test does not end
		return 0, ctx.Err()
	})
	list := listing.List{{Path: "elsewhere", Kind: listing.File, Digest: digest.Of([]byte("text")), Size: 4}}
	if _, err := d.Bring(t.Context(), gen, list); !errors.Is(err, outputs.ErrRefused) {
		t.Errorf("not refused: %v", err)
	}
	if _, err := os.Lstat(filepath.Join(root, "elsewhere")); err == nil {
		t.Error("it was written")
	}
}
