//go:build trials

package trials

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
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
	blobs := kept(t, cache)
	n, flipped := times(9500), 0
	for flipped < n {
		b := &blobs[rnd.IntN(len(blobs))]
		if b.size == 0 || b.size > 100_000 && rnd.IntN(20) > 0 {
			continue // reading the large ones each time takes too long
		}
		flipped++
		right, err := st.Read(b.digest)
		if err != nil {
			t.Fatal(err)
		}
		undo := b.flip(t, rnd.Int64N(8*b.size))
		if text, err := st.Read(b.digest); err == nil {
			t.Fatalf("blob %s with a flipped bit was read as %d bytes", b.digest.Short(), len(text))
		}
		if st.Has(b.digest) {
			t.Fatalf("blob %s is damaged, was found to be, and is still there", b.digest.Short())
		}
		undo()
		if _, err := st.Put(right); err != nil {
			t.Fatal(err)
		}
		if err := st.Flush(); err != nil {
			t.Fatal(err)
		}
		if segment, at := st.Order(b.digest); segment != 0 { // it is elsewhere now
			b.file, b.at = segmentFile(cache, segment), at
		}
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
	t.Logf(
		"%d bits flipped in blobs, each found; %d in any file of the cache and the checkout's state, each followed by a run with the right outputs (%d tasks had to run for it)",
		n,
		whole,
		ran,
	)
}

// keptBlob is a blob in a file of the cache.
type keptBlob struct {
	digest digest.Digest
	file   string
	at     int64
	size   int64
}

// flip flips a bit of a blob. The returned function flips it back, if the file is there.
func (b keptBlob) flip(t *testing.T, bit int64) (undo func()) {
	t.Helper()
	turn := func() {
		f, err := os.OpenFile(b.file, os.O_RDWR, 0)
		if errors.Is(err, fs.ErrNotExist) {
			return // it was a file of its own, which is gone
		}
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		var one [1]byte
		if _, err := f.ReadAt(one[:], b.at+bit/8); err != nil {
			t.Fatal(err)
		}
		one[0] ^= 1 << (bit % 8)
		if _, err := f.WriteAt(one[:], b.at+bit/8); err != nil {
			t.Fatal(err)
		}
	}
	turn()
	return turn
}

func segmentFile(cache string, id uint64) string {
	return filepath.Join(cache, "segments", fmt.Sprintf("%016x.tar", id))
}

// kept returns the blobs of a cache, the last of each: those in segments and those in files.
func kept(t *testing.T, cache string) (out []keptBlob) {
	t.Helper()
	at := map[digest.Digest]keptBlob{}
	index, err := os.ReadFile(filepath.Join(cache, "segments", "index-2"))
	if err != nil {
		t.Fatal(err)
	}
	const rowBytes = 72 // as internal/machine/segments writes them
	for row := rowBytes; row+rowBytes <= len(index); row += rowBytes {
		b := index[row : row+rowBytes]
		if b[64] == 1 {
			continue
		}
		d := digest.Digest(b[:32])
		at[d] = keptBlob{
			d, segmentFile(cache, binary.LittleEndian.Uint64(b[32:])),
			int64(binary.LittleEndian.Uint64(b[40:])), int64(binary.LittleEndian.Uint32(b[48:])),
		}
	}
	for _, file := range files(t, filepath.Join(cache, "blobs")) {
		d, err := digest.Parse(filepath.Base(filepath.Dir(file)) + filepath.Base(file))
		if err != nil {
			t.Fatal(err)
		}
		info, err := os.Stat(file)
		if err != nil {
			t.Fatal(err)
		}
		at[d] = keptBlob{d, file, 0, info.Size()}
	}
	for _, b := range at {
		out = append(out, b)
	}
	slices.SortFunc(out, func(a, b keptBlob) int { return bytes.Compare(a.digest[:], b.digest[:]) })
	return out
}
