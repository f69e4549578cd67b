package segments_test

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/machine/segments"
)

func text(i int) []byte {
	return bytes.Repeat(fmt.Append(nil, "blob ", i, "\n"), 1+i%97)
}

func add(t *testing.T, s *segments.Set, from, to int) {
	t.Helper()
	for i := from; i < to; i++ {
		if err := s.Add(digest.Of(text(i)), text(i)); err != nil {
			t.Fatal(err)
		}
	}
}

// readable returns how many of the first n blobs are there, and fails if one is wrong.
func readable(t *testing.T, s *segments.Set, n int) int {
	t.Helper()
	got := 0
	for i := range n {
		b, err := s.Read(digest.Of(text(i)), nil)
		switch {
		case err == nil && bytes.Equal(b, text(i)):
			got++
		case err == nil:
			t.Fatalf("blob %d has other contents", i)
		case !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, segments.ErrDamaged):
			t.Fatal(err)
		}
	}
	return got
}

func files(t *testing.T, dir string) []string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(dir, "*.tar"))
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// flip flips a bit of a file, in a byte that is chosen by the length of the file.
func flip(t *testing.T, file string, choose func(n int) int) {
	t.Helper()
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	at := choose(len(b))
	b[at] ^= 1 << (at % 8)
	if err := os.WriteFile(file, b, 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestBlobsAreReadAtOnceHereAndElsewhereOnceWritten(t *testing.T) {
	dir := t.TempDir()
	a, b := segments.Open(dir), segments.Open(dir)
	add(t, a, 0, 50)
	if n := readable(t, a, 50); n != 50 {
		t.Errorf("%d blobs can be read where they were added", n)
	}
	if err := a.Flush(); err != nil {
		t.Fatal(err)
	}
	if n := readable(t, b, 51); n != 50 {
		t.Errorf("%d blobs can be read elsewhere", n)
	}
	if size, ok := b.Find(digest.Of(text(7))); !ok || size != int64(len(text(7))) {
		t.Errorf("%d bytes, %v", size, ok)
	}
	// Two that append at the same time do so to segments of their own.
	add(t, b, 40, 100)
	add(t, a, 100, 120)
	for _, s := range []*segments.Set{a, b} {
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if n := readable(t, segments.Open(dir), 120); n != 120 {
		t.Errorf("%d blobs are left", n)
	}
	if n := len(files(t, dir)); n != 2 {
		t.Errorf("%d segments", n)
	}
	// Later ones go on with those.
	for i := range 10 {
		s := segments.Open(dir)
		add(t, s, 120+i, 121+i)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if n := len(files(t, dir)); n != 2 {
		t.Errorf("%d segments after ten more processes", n)
	}
}

func TestASegmentIsAnArchive(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	s.Now = func() time.Time { return time.Date(2026, 11, 26, 10, 0, 0, 5, time.UTC) }
	add(t, s, 0, 20)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(files(t, dir)[0])
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	in := tar.NewReader(f)
	for i := range 20 {
		h, err := in.Next()
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(in)
		if err != nil || h.Name != digest.Of(text(i)).String() || !bytes.Equal(got, text(i)) || h.ModTime.Unix() != s.Now().Unix() {
			t.Errorf("%+v, %v", h, err)
		}
	}
	if _, err := in.Next(); !errors.Is(err, io.EOF) {
		t.Error(err)
	}
	if all := s.All(); len(all) != 20 || all[0].Arrived.Unix() != s.Now().Unix() {
		t.Errorf("%d: %+v", len(all), all[0])
	}
}

// A process that was killed left a member and a row unfinished.
func TestWhatAKilledProcessLeftIsNotSeen(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	add(t, s, 0, 30)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	segment, index := files(t, dir)[0], filepath.Join(dir, "index-2")
	whole, err := os.ReadFile(segment)
	if err != nil {
		t.Fatal(err)
	}
	rows, err := os.ReadFile(index)
	if err != nil {
		t.Fatal(err)
	}
	for _, cut := range []int{1, 600, 1000} {
		if err := os.WriteFile(segment, append(bytes.Clone(whole), whole[:cut]...), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(index, append(bytes.Clone(rows), rows[72:72+min(cut, 71)]...), 0o644); err != nil {
			t.Fatal(err)
		}
		next := segments.Open(dir)
		if n := readable(t, next, 30); n != 30 {
			t.Errorf("%d blobs are left", n)
		}
		add(t, next, 30, 40)
		if err := next.Close(); err != nil {
			t.Fatal(err)
		}
		if n := readable(t, segments.Open(dir), 40); n != 40 {
			t.Errorf("cut at %d: %d blobs, after more were added", cut, n)
		}
		if n, err := segments.Open(dir).Rebuild(t.Context()); err != nil || n != 40 {
			t.Errorf("cut at %d: %d blobs in an index that was made again, %v", cut, n, err)
		}
	}
}

func TestTheIndexIsMadeAgain(t *testing.T) {
	for name, spoil := range map[string]func(file string) error{
		"missing":        os.Remove,
		"another format": func(file string) error { return os.WriteFile(file, make([]byte, 72*100), 0o644) },
		"of format 1": func(file string) error {
			return errors.Join(os.Remove(file), os.WriteFile(filepath.Join(filepath.Dir(file), "index"), make([]byte, 64*100), 0o644))
		},
	} {
		dir := t.TempDir()
		s := segments.Open(dir)
		add(t, s, 0, 300)
		s.Drop(digest.Of(text(5)))
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		if err := spoil(filepath.Join(dir, "index-2")); err != nil {
			t.Fatal(err)
		}
		if n := readable(t, segments.Open(dir), 300); n != 300 {
			t.Errorf("%s: %d blobs are left", name, n)
		}
		if n := readable(t, s, 300); n != 300 {
			t.Errorf("%s: %d blobs are left for a process that knows the old one", name, n)
		}
		if _, err := os.Stat(filepath.Join(dir, "index")); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: an index that nobody reads is left: %v", name, err)
		}
	}
}

// Reading compares a blob with a checksum; only a check compares it with its digest.
func TestACheckComparesDigests(t *testing.T) {
	s := segments.Open(t.TempDir())
	add(t, s, 0, 3)
	wrong := digest.Of([]byte("signal"))
	if err := errors.Join(s.Add(wrong, []byte("fog horn")), s.Flush()); err != nil {
		t.Fatal(err)
	}
	damaged, err := s.Check(t.Context(), func() {})
	if err != nil || !slices.Equal(damaged, []digest.Digest{wrong}) {
		t.Errorf("%v, %v", damaged, err)
	}
	if _, ok := s.Find(wrong); ok || readable(t, s, 3) != 3 {
		t.Error("it is still there, or others are gone")
	}
}

func TestFlippedBitsAreNeverRead(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	const blobs = 60
	for round := range 60 {
		dir := t.TempDir()
		s := segments.Open(dir)
		add(t, s, 0, blobs)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		file := files(t, dir)[0]
		if round%2 == 1 {
			file = filepath.Join(dir, "index-2")
		}
		if round%4 == 3 { // an index whose rows are in order
			if _, err := s.Rebuild(t.Context()); err != nil {
				t.Fatal(err)
			}
		}
		flip(t, file, rnd.IntN)
		next := segments.Open(dir)
		was := readable(t, next, blobs)
		if was < blobs-1 {
			t.Errorf("%d of %d blobs are left", was, blobs)
		}
		if round%2 == 1 && was < blobs {
			if !next.IsDamaged() {
				t.Error("a damaged row is not noticed")
			}
			if _, err := next.Rebuild(t.Context()); err != nil || readable(t, next, blobs) != blobs {
				t.Errorf("the index that was made again has fewer, %v", err)
			}
		}
		add(t, next, 0, blobs) // what is damaged is kept again
		if n := readable(t, next, blobs); n != blobs {
			t.Errorf("%d after all were added again", n)
		}
	}
}

func TestRemovedBlobsGiveTheirRoomBack(t *testing.T) {
	dir := t.TempDir()
	s, other := segments.Open(dir), segments.Open(dir)
	add(t, s, 0, 1000)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if n := readable(t, other, 1000); n != 1000 {
		t.Fatal(n)
	}
	add(t, other, 1000, 1100) // appends to the segment, which is then not written again
	if err := other.Flush(); err != nil {
		t.Fatal(err)
	}
	_, before, _ := s.Files()
	gone := map[digest.Digest]bool{}
	for i := range 1000 {
		if i%10 > 0 {
			gone[digest.Of(text(i))] = true
		}
	}
	for busy := range 2 {
		if err := s.Remove(t.Context(), gone); err != nil {
			t.Fatal(err)
		}
		for name, set := range map[string]*segments.Set{"here": s, "in another process": other, "in a new process": segments.Open(dir)} {
			if n := readable(t, set, 1100); n != 200 && name != "in another process" {
				t.Errorf("pass %d: %d blobs are left %s", busy, n, name)
			} else if n < 200 {
				t.Errorf("pass %d: %d blobs are left %s", busy, n, name)
			}
		}
		if err := other.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if _, after, _ := s.Files(); after > before/3 {
		t.Errorf("%d of %d bytes are left", after, before)
	}
	if n := readable(t, other, 1100); n < 200 { // it may have the old segment open
		t.Errorf("%d blobs are left for a process that knew all", n)
	}
	if n, err := segments.Open(dir).Rebuild(t.Context()); err != nil || n < 200 {
		t.Errorf("%d, %v", n, err)
	}
}

func TestAppendingReadingAndRemovingAtTheSameTime(t *testing.T) {
	dir := t.TempDir()
	ctx, cancel := context.WithCancel(t.Context())
	var removing sync.WaitGroup
	removing.Go(func() {
		s := segments.Open(dir)
		for ctx.Err() == nil {
			gone := map[digest.Digest]bool{}
			for i := range 2000 {
				if i%4 == 3 {
					gone[digest.Of(text(i))] = true
				}
			}
			if err := s.Remove(ctx, gone); err != nil && ctx.Err() == nil {
				t.Error(err)
			}
		}
	})
	var adding sync.WaitGroup
	for w := range 4 {
		adding.Go(func() {
			for part := range 10 {
				s := segments.Open(dir)
				var mine []pack.Blob
				for i := part * 200; i < part*200+200; i++ {
					if i%4 == w || i%4 == 3 {
						mine = append(mine, pack.Blob{Digest: digest.Of(text(i)), Text: text(i)})
					}
				}
				for list := range slices.Chunk(mine, 10) {
					add := s.AddAll
					if part%2 == 1 {
						add = func(list []pack.Blob) error { return s.AddFrame(pack.Join(list), list) }
					}
					if err := add(list); err != nil {
						t.Error(err)
					}
				}
				if err := s.Close(); err != nil {
					t.Error(err)
				}
			}
		})
	}
	adding.Wait()
	cancel()
	removing.Wait()
	s := segments.Open(dir)
	for i := range 2000 {
		b, err := s.Read(digest.Of(text(i)), nil)
		if i%4 != 3 && (err != nil || !bytes.Equal(b, text(i))) {
			t.Fatalf("blob %d: %v", i, err)
		}
	}
}

// A file system gives the number of a deleted index to the next one but one.
func TestAnIndexThatWasReplacedTwiceIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	add := func(s *segments.Set, from, to int) {
		t.Helper()
		for i := from; i < to; i++ {
			if err := s.Add(digest.Of(text(i)), text(i)); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.Flush(); err != nil {
			t.Fatal(err)
		}
	}
	s, other := segments.Open(dir), segments.Open(dir)
	for round := range 20 {
		add(s, round*100, round*100+10)
		other.Find(digest.Of(text(round * 100)))
		for range 2 {
			if err := s.Remove(t.Context(), nil); err != nil {
				t.Fatal(err)
			}
			add(s, round*100+10, round*100+12)
		}
		for i := round * 100; i < round*100+12; i++ {
			if _, ok := other.Find(digest.Of(text(i))); !ok {
				t.Fatalf("round %d: blob %d is not found", round, i)
			}
		}
	}
	if other.IsDamaged() {
		t.Error("rows are damaged")
	}
}

func TestRemovingFromNothing(t *testing.T) {
	if err := segments.Open(t.TempDir()).Remove(t.Context(), nil); err != nil {
		t.Error(err)
	}
}

func TestABlobThatIsTooLargeIsRefused(t *testing.T) {
	s := segments.Open(t.TempDir())
	large := make([]byte, segments.Largest+1)
	list := []pack.Blob{{Digest: digest.Of(text(1)), Text: text(1)}, {Digest: digest.Of(large), Text: large}}
	if err := s.AddAll(list); err == nil || readable(t, s, 2) > 0 {
		t.Errorf("%v, and %d were taken", err, readable(t, s, 2))
	}
}

// Somebody has begun a segment, and added nothing to the index yet.
func TestRemovingBeforeThereIsAnIndex(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	none := map[digest.Digest]bool{}
	if err := s.Remove(t.Context(), none); err != nil {
		t.Fatal(err)
	}
	other := segments.Open(dir)
	add(t, other, 0, 1)
	if err := s.Remove(t.Context(), none); err != nil {
		t.Error(err)
	}
	if err := other.Close(); err != nil {
		t.Fatal(err)
	}
	if n := readable(t, s, 1); n != 1 {
		t.Errorf("%d blobs are left", n)
	}
}
