package store

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestDamagedBlobsAreDeleted(t *testing.T) {
	s := open(t)
	tide := bytes.Repeat([]byte("tide"), 100_000) // a file of its own
	d, err := s.Put(tide)
	if err != nil || d != digest.Of(tide) {
		t.Fatal(d, err)
	}
	if b, err := s.Read(d); err != nil || !bytes.Equal(b, tide) {
		t.Errorf("%d bytes, %v", len(b), err)
	}
	for _, spoil := range [][]byte{bytes.ToUpper(tide), tide[1:], {}, append(tide[:len(tide):len(tide)], "and more"...)} {
		if err := os.WriteFile(s.blob(d), spoil, 0o644); err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		if err := s.WriteTo(d, &out); !errors.Is(err, ErrDamaged) {
			t.Errorf("%.5q: %v", spoil, err)
		}
		if s.Has(d) {
			t.Errorf("%.5q: it is still there", spoil)
		}
		if _, err := s.Put(tide); err != nil {
			t.Fatal(err)
		}
		if b, err := s.Read(d); err != nil || !bytes.Equal(b, tide) {
			t.Errorf("after %.5q it cannot be kept again: %d bytes, %v", spoil, len(b), err)
		}
	}
}

func TestKeepRefusesOtherContents(t *testing.T) {
	s := open(t)
	want := digest.Of([]byte("asked"))
	if err := s.Keep(want, strings.NewReader("something else")); err == nil {
		t.Error("kept")
	}
	if s.Has(want) || s.Has(digest.Of([]byte("something else"))) {
		t.Error("something stayed")
	}
	if left, _ := filepath.Glob(filepath.Join(s.Dir(), "tmp", "*", "*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestManyKeepTheSameBlobAtOnce(t *testing.T) {
	s := open(t)
	text := bytes.Repeat([]byte("chart"), 100_000)
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			if _, err := s.Put(text); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if b, err := s.Read(digest.Of(text)); err != nil || !bytes.Equal(b, text) {
		t.Error(err)
	}
}

func TestEntriesAreSeparatedByOrigin(t *testing.T) {
	s := open(t)
	k := digest.Of([]byte("key"))
	listing, err := s.Put([]byte("first"))
	if err != nil {
		t.Fatal(err)
	}
	trusted, mine := Origin{Repo: "r", Service: "http://s", Shelf: "trusted"}, Origin{Repo: "r"}
	e := protocol.Entry{Key: k, Listing: listing, Task: "build@a"}
	if _, err := s.PutEntry(e, trusted); err != nil {
		t.Fatal(err)
	}
	if _, ok := s.Entry(k, mine); ok {
		t.Error("an entry of the trusted shelf is seen as one's own")
	}
	if _, ok := s.Entry(k, Origin{Repo: "other", Service: "http://s", Shelf: "trusted"}); ok {
		t.Error("an entry is seen from another repository")
	}
	second := e
	second.Listing = digest.Of([]byte("second"))
	if got, err := s.PutEntry(second, trusted); err != nil || got.Listing != listing {
		t.Errorf("the first did not stay: %v, %v", got.Listing.Short(), err)
	}
	for _, bad := range []string{"", "{", `{"version":2}`, `{"version":1,"entry":{}}`} {
		if err := os.WriteFile(s.entry(k, trusted), []byte(bad), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, ok := s.Entry(k, trusted); ok {
			t.Errorf("%q was taken for an entry", bad)
		}
	}
}

func TestTheSpoolKeepsItemsUntilTheyAreSent(t *testing.T) {
	s := open(t)
	if err := s.Spool("entry-1", []byte("x")); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if names, err := s.Spooled(); err != nil || len(names) != 1 {
			t.Fatal(names, err)
		}
		if b, err := s.ReadSpooled("entry-1"); err != nil || string(b) != "x" {
			t.Errorf("%q, %v", b, err)
		}
	}
	for range 2 { // another client may have been faster
		if err := s.Unspool("entry-1"); err != nil {
			t.Error(err)
		}
	}
	if names, _ := s.Spooled(); len(names) != 0 {
		t.Errorf("left: %v", names)
	}
}

// An entry with any flipped bit is never taken for another entry.
func TestAnEntryWithAFlippedBitIsIgnored(t *testing.T) {
	s := open(t)
	k, o := digest.Of([]byte("k")), Origin{Repo: "r"}
	if _, err := s.PutEntry(protocol.Entry{Key: k, Task: "a", Listing: digest.Of([]byte("l")), Seconds: 3}, o); err != nil {
		t.Fatal(err)
	}
	file := s.entry(k, o)
	right, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i < 8*len(right); i += 3 {
		wrong := bytes.Clone(right)
		wrong[i/8] ^= 1 << (i % 8)
		if err := os.WriteFile(file, wrong, 0o644); err != nil {
			t.Fatal(err)
		}
		if e, ok := s.Entry(k, o); ok {
			t.Fatalf("bit %d of %q: %+v", i, right, e)
		}
	}
}

func TestACacheThatCannotBeWrittenSaysWhatToDo(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(filepath.Join(file, "cache")); err == nil || !strings.Contains(err.Error(), "GRAYLOFT_CACHE") {
		t.Errorf("%v", err)
	}
}

// Records refer to no blob where one could not be stored.
func TestTheZeroDigestNamesNothing(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	var none digest.Digest
	if _, err := s.Read(none); s.Has(none) || !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v, %v", s.Has(none), err)
	}
	if _, ok := s.Entry(none, Origin{Repo: "r"}); ok {
		t.Error("it has an entry")
	}
}

func TestManyBlobsAreLookedForAtOnceAndOneByOneAlike(t *testing.T) {
	s := open(t)
	other, err := Open(s.dir) // stands for another process
	if err != nil {
		t.Fatal(err)
	}
	var all, want []digest.Digest
	for i := range fewBlobs + 200 {
		all = append(all, digest.Of(fmt.Append(nil, i)))
		switch {
		case i%7 == 0:
			_, err = other.Put(fmt.Append(nil, i))
		case i%7 == 1:
			_, err = s.Put(fmt.Append(nil, i))
		default:
			want = append(want, all[i])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for range 3 {
		large := make([]byte, 2*smallBlob+len(all))
		d, err := other.Put(large)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, d)
	}
	if err := other.Flush(); err != nil {
		t.Fatal(err)
	}
	if got := s.Absent(slices.Clone(all)); !slices.Equal(got, want) {
		t.Errorf("%d of %d are absent, not %d", len(got), len(all), len(want))
	}
	for _, d := range all {
		if got := s.Absent([]digest.Digest{d}); (len(got) == 0) != s.Has(d) {
			t.Fatalf("%v: %v", d, got)
		}
	}
}

// A frame is kept as it is if that saves room, and if all of its blobs are small.
func TestFramesAreKeptWhereTheyAreSmaller(t *testing.T) {
	noise := make([]byte, 20_000)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(noise)
	for name, c := range map[string]struct {
		text     []byte
		isSmall  bool
		segments int
	}{
		"text":  {bytes.Repeat([]byte("rope "), 4000), true, 1},
		"noise": {noise, false, 1},
		"large": {bytes.Repeat([]byte("rope "), smallBlob), false, 0},
	} {
		s := open(t)
		list := []pack.Blob{{Digest: digest.Of(c.text), Text: c.text}}
		if err := s.KeepFrame(pack.Join(list), list); err != nil {
			t.Fatal(err)
		}
		if err := s.Flush(); err != nil {
			t.Fatal(err)
		}
		got, err := s.Read(list[0].Digest)
		if err != nil || !bytes.Equal(got, c.text) {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
		st, err := s.Stats()
		if err != nil || st.BlobBytes != int64(len(c.text)) || st.DiskBytes < st.BlobBytes/10 != c.isSmall || st.Segments != c.segments {
			t.Errorf("%s: %+v, %v", name, st, err)
		}
	}
}
