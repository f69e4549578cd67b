//go:build trials

package trials

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/store"
)

// files returns the regular files below directories.
func files(t *testing.T, dirs ...string) []string {
	t.Helper()
	var out []string
	for _, dir := range dirs {
		_ = filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				if info, err := d.Info(); err == nil && info.Size() > 0 {
					out = append(out, p)
				}
			}
			return nil
		})
	}
	return out
}

// flip flips one bit of a file, and returns a function that undoes it.
func flip(t *testing.T, file string, bit int64) (undo func()) {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	bit %= int64(len(text)) * 8
	wrong := append([]byte{}, text...)
	wrong[bit/8] ^= 1 << (bit % 8)
	write := func(b []byte) {
		if err := os.WriteFile(file, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write(wrong)
	return func() { write(text) }
}

func TestFlippedBitsAreNeverRestored(t *testing.T) {
	h := newHarbour(t)
	cache := ""
	for _, kv := range h.Env {
		if dir, ok := strings.CutPrefix(kv, "GRAYLOFT_CACHE="); ok {
			cache = dir
		}
	}
	for v := range versions {
		h.Write("lib/in", fmt.Sprintf("%d\n", v))
		h.check(h.Repo, v, "filling the cache")
	}
	rnd := rand.New(rand.NewPCG(21, 22))

	// Blobs, read in the same way as when restoring.
	st, err := store.Open(cache)
	if err != nil {
		t.Fatal(err)
	}
	blobs := files(t, filepath.Join(cache, "blobs"))
	n, flipped := times(9500), 0
	for flipped < n {
		file := blobs[rnd.IntN(len(blobs))]
		info, err := os.Stat(file)
		if err != nil {
			t.Fatal(err)
		}
		if info.Size() > 100_000 && rnd.IntN(20) > 0 {
			continue // reading the large ones each time takes too long
		}
		flipped++
		undo := flip(t, file, rnd.Int64())
		d, err := digest.Parse(filepath.Base(filepath.Dir(file)) + filepath.Base(file))
		if err != nil {
			t.Fatal(err)
		}
		if text, err := st.Read(d); err == nil {
			t.Fatalf("blob %s with a flipped bit was read as %d bytes", d.Short(), len(text))
		}
		if _, err := os.Lstat(file); err == nil {
			t.Fatalf("blob %s is damaged, was found to be, and is still there", d.Short())
		}
		undo()
	}

	// Any file of the cache and of the checkout's state, with whole runs.
	whole := times(500)
	ran := 0
	for i := range whole {
		v := rnd.IntN(versions)
		h.Write("lib/in", fmt.Sprintf("%d\n", v))
		switch rnd.IntN(3) {
		case 0:
			h.Remove("lib/out")
		case 1:
			h.Remove("app/pack.made")
		}
		all := files(t, cache, h.Path(".grayloft"))
		file := all[rnd.IntN(len(all))]
		flip(t, file, rnd.Int64())
		rep := h.Run("gen", "pack")
		if rel, _ := filepath.Rel(h.Dir, file); !rep.OK || outputs(t, h.Repo) != h.right[v] {
			t.Fatalf("%d: a bit of %s flipped: %v\n%s", i, rel, rep.Totals, rep.Answer.Err)
		}
		ran += rep.Totals["ran"]
	}
	t.Logf("%d bits flipped in blobs, each found; %d in any file of the cache and the checkout's state, each followed by a run with the right outputs (%d tasks had to run for it)", n, whole, ran)
}
