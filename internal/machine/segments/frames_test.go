package segments_test

import (
	"archive/tar"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/machine/segments"
)

const each = 20 // blobs of a frame

// blobs returns blobs from and to those numbers.
func blobs(from, to int) (list []pack.Blob) {
	for i := from; i < to; i++ {
		list = append(list, pack.Blob{Digest: digest.Of(text(i)), Text: text(i)})
	}
	return list
}

// addFrames adds blobs in frames.
func addFrames(t *testing.T, s *segments.Set, from, to int) {
	t.Helper()
	for ; from < to; from += each {
		list := blobs(from, min(from+each, to))
		if err := s.AddFrame(pack.Join(list), list); err != nil {
			t.Fatal(err)
		}
	}
}

// rowSet is a set of rows: an index that is made again has them in another order.
func rowSet(rows []byte) map[[72]byte]bool {
	out := map[[72]byte]bool{}
	for ; len(rows) >= 72; rows = rows[72:] {
		out[[72]byte(rows)] = true
	}
	return out
}

// rowsOf are the rows of an index behind the one that names its format.
func rowsOf(t *testing.T, dir string) []byte {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(dir, "index-2"))
	if err != nil || len(b) < 72 {
		t.Fatal(len(b), err)
	}
	return b[72:]
}

func TestFramesAreReadAtOnceHereAndElsewhereOnceWritten(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	addFrames(t, s, 0, 100)
	add(t, s, 100, 110) // after frames, in the same segment
	addFrames(t, s, 110, 130)
	if n := readable(t, s, 130); n != 130 {
		t.Errorf("%d blobs can be read where they were added", n)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	next := segments.Open(dir)
	if n := readable(t, next, 131); n != 130 {
		t.Errorf("%d blobs can be read elsewhere", n)
	}
	addFrames(t, next, 130, 150)
	if err := next.Close(); err != nil {
		t.Fatal(err)
	}
	if n := readable(t, segments.Open(dir), 150); n != 150 || len(files(t, dir)) != 1 {
		t.Errorf("%d blobs after another process went on, in %d segments", n, len(files(t, dir)))
	}
	// What is known is not added again, in whatever form it comes.
	_, before, _ := s.Files()
	addFrames(t, next, 0, 150)
	add(t, next, 0, 150)
	if err := next.Close(); err != nil {
		t.Fatal(err)
	}
	if _, after, _ := s.Files(); after != before {
		t.Errorf("%d bytes, then %d", before, after)
	}
}

// A reader returns the contents in its own room, so what it returned before is not right any more.
func TestAReaderReadsInAnyOrder(t *testing.T) {
	s := segments.Open(t.TempDir())
	addFrames(t, s, 0, 60)
	add(t, s, 60, 80)
	r := s.Reader()
	room := make([]byte, segments.Largest)
	rnd := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		i := rnd.IntN(80)
		if b, err := r.Read(digest.Of(text(i)), room); err != nil || !bytes.Equal(b, text(i)) {
			t.Fatalf("blob %d: %d bytes, %v", i, len(b), err)
		}
	}
}

// Others can read a segment without this program: tar, zstd, tar.
func TestAFrameInASegmentIsACompressedArchive(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	addFrames(t, s, 0, each)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(files(t, dir)[0])
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	in := tar.NewReader(f)
	h, err := in.Next()
	if err != nil || h.Name != digest.Of(text(0)).String()+".tar.zst" {
		t.Fatal(h, err)
	}
	frame, err := io.ReadAll(in)
	if err != nil || !bytes.Equal(frame, pack.Join(blobs(0, each))) {
		t.Errorf("%d bytes, %v", len(frame), err)
	}
	members, err := pack.Index(io.MultiReader(bytes.NewReader(frame), bytes.NewReader(pack.End())))
	if err != nil || len(members) != each {
		t.Errorf("%d members, %v", len(members), err)
	}
	if _, err := in.Next(); !errors.Is(err, io.EOF) {
		t.Error(err)
	}
}

// A row of a blob in a frame has a position that programs from before take for a negative one.
func TestRowsOfFramesAreNoneToProgramsFromBefore(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	addFrames(t, s, 0, 1)
	add(t, s, 1, 2)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	b := rowsOf(t, dir)
	if len(b) != 2*72 {
		t.Fatal(len(b))
	}
	for i, isFramed := range []bool{true, false} {
		at := int64(binary.LittleEndian.Uint64(b[i*72+40:]))
		if (at < 0) != isFramed {
			t.Errorf("row %d: position %d", i, at)
		}
	}
}

func TestTheIndexOfFramesIsMadeAgain(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	addFrames(t, s, 0, 100)
	add(t, s, 100, 120)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	before := rowSet(rowsOf(t, dir))
	if err := os.Remove(filepath.Join(dir, "index-2")); err != nil {
		t.Fatal(err)
	}
	if n := readable(t, segments.Open(dir), 120); n != 120 {
		t.Errorf("%d blobs are left", n)
	}
	if !maps.Equal(before, rowSet(rowsOf(t, dir))) {
		t.Error("other rows")
	}
}

func TestFlippedBitsInFramesAreNeverRead(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 6))
	const n = 60
	for range 40 {
		dir := t.TempDir()
		s := segments.Open(dir)
		addFrames(t, s, 0, n)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		flip(t, files(t, dir)[0], rnd.IntN)
		next := segments.Open(dir)
		seen := 0
		damaged, err := next.Check(t.Context(), func() { seen++ })
		if err != nil || seen != n {
			t.Fatal(seen, err)
		}
		if was := readable(t, next, n); was != n && was != n-each || len(damaged) != n-was {
			t.Errorf("%d of %d blobs are left, and %d damaged", was, n, len(damaged))
		}
		addFrames(t, next, 0, n) // what is damaged is kept again
		if got := readable(t, next, n); got != n {
			t.Errorf("%d after all were added again", got)
		}
	}
}

// Whoever finds a damaged blob fetches it again, and with it the others in its frame.
func TestADamagedFrameIsAbsentAsAWhole(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	addFrames(t, s, 0, 2*each)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	flip(t, files(t, dir)[0], func(int) int { return 512 + 20 }) // in the first frame
	next := segments.Open(dir)
	if _, err := next.Read(digest.Of(text(3)), nil); !errors.Is(err, segments.ErrDamaged) {
		t.Error(err)
	}
	for name, set := range map[string]*segments.Set{"here": next, "in a new process": segments.Open(dir)} {
		var all []digest.Digest
		for i := range 2 * each {
			all = append(all, digest.Of(text(i)))
		}
		if absent := set.Absent(all); len(absent) != each || absent[0] != all[0] {
			t.Errorf("%d are absent %s", len(absent), name)
		}
	}
}

func TestFramesGiveTheirRoomBack(t *testing.T) {
	dir := t.TempDir()
	s := segments.Open(dir)
	addFrames(t, s, 0, 1000)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	_, before, _ := s.Files()
	room, size := int64(0), int64(0)
	for _, b := range s.All() {
		room += b.Room
		size += b.Size
	}
	if room > before || room < before/3 || size < 2*room {
		t.Errorf("%d bytes in segments of %d take %d", size, before, room)
	}
	// Of the first frames all goes, of the next ones most, of the last ones a little.
	gone := map[digest.Digest]bool{}
	stay := 0
	for i := range 1000 {
		switch {
		case i < 800, i < 900 && i%10 > 0, i >= 900 && i%10 == 0:
			gone[digest.Of(text(i))] = true
		default:
			stay++
		}
	}
	if err := s.Remove(t.Context(), gone); err != nil {
		t.Fatal(err)
	}
	for name, set := range map[string]*segments.Set{"here": s, "in a new process": segments.Open(dir)} {
		if n := readable(t, set, 1000); n != stay {
			t.Errorf("%d blobs of %d are left %s", n, stay, name)
		}
	}
	if _, after, _ := s.Files(); after > before/2 {
		t.Errorf("%d of %d bytes are left", after, before)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	frames, plain := 0, 0
	f, err := os.Open(files(t, dir)[0])
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for in := tar.NewReader(f); ; {
		h, err := in.Next()
		if err != nil {
			break
		}
		if strings.HasSuffix(h.Name, pack.FrameSuffix) {
			frames++
		} else {
			plain++
		}
	}
	// Frames of which most is left are copied, and what is left of the others is taken out.
	if frames != 100/each || plain != 10 {
		t.Errorf("%d frames and %d other blobs", frames, plain)
	}
	// A frame that was copied says nothing about those of its blobs that are gone, unless the
	// index is lost.
	if n, err := segments.Open(dir).Rebuild(t.Context()); err != nil || n < stay {
		t.Errorf("%d, %v", n, err)
	}
}
