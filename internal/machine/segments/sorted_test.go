package segments

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

// Digests are found wherever they are, also if somebody chose them.
func TestWhatIsInOrderIsFound(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 1))
	even := func() (d digest.Digest) {
		for i := 0; i < len(d); i += 8 {
			binary.BigEndian.PutUint64(d[i:], rnd.Uint64())
		}
		return d
	}
	for name, choose := range map[string]func() digest.Digest{
		"evenly":             even,
		"at the beginning":   func() digest.Digest { d := even(); d[0], d[1] = 0, 0; return d },
		"at the end":         func() digest.Digest { d := even(); d[0], d[1] = 0xff, 0xff; return d },
		"with one beginning": func() digest.Digest { d := even(); copy(d[:], "01234567"); return d },
		"at both ends":       func() digest.Digest { d := even(); d[0] = -(d[0] & 1); return d },
	} {
		for _, n := range []int{1, 2, groupRows - 1, groupRows, groupRows + 1, 8*groupRows + 7} {
			all := map[digest.Digest]place{}
			for len(all) < n {
				all[choose()] = place{segment: 1 + rnd.Uint64N(9), at: rnd.Uint32(), size: rnd.Uint32N(Largest)}
			}
			x := writeInOrder(t, all)
			for d, want := range all {
				if p, ok := x.find(d); !ok || p != want {
					t.Fatalf("%s, %d rows: %v, %t", name, n, p, ok)
				}
			}
			for range 1000 {
				if d := choose(); all[d] == (place{}) {
					if p, ok := x.find(d); ok {
						t.Fatalf("%s, %d rows: %v of a blob that is not there", name, n, p)
					}
				}
			}
		}
	}
}

// writeInOrder returns an index that was read from a file with rows in order.
func writeInOrder(t *testing.T, all map[digest.Digest]place) *index {
	t.Helper()
	x := newIndex(filepath.Join(t.TempDir(), indexName))
	err := x.replace(func() (rows []row, err error) {
		for d, p := range all {
			rows = append(rows, row{digest: d, place: p})
		}
		return rows, nil
	})
	if err != nil || x.sorted.n != len(all) || len(x.later) > 0 {
		t.Fatal(err, x.sorted.n, len(x.later))
	}
	t.Cleanup(x.forget)
	return x
}

// Processes add, remove and replace; each finds what a process that reads everything finds.
func TestRowsInOrderAndLaterOnesTogether(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 1))
	file := filepath.Join(t.TempDir(), indexName)
	digests := make([]digest.Digest, 3*groupRows)
	for i := range digests {
		digests[i] = digest.Of(binary.BigEndian.AppendUint32(nil, uint32(i)))
	}
	here, there, want := newIndex(file), newIndex(file), map[digest.Digest]place{}
	defer here.forget()
	defer there.forget()
	refresh := func(x *index) {
		t.Helper()
		if _, err := x.refresh(); err != nil {
			t.Fatal(err)
		}
	}
	for step := range 60 {
		var rows []row
		for range 1 + rnd.IntN(200) {
			d := digests[rnd.IntN(len(digests))]
			if p, ok := want[d]; ok && rnd.IntN(3) == 0 {
				rows = append(rows, row{digest: d, place: p, gone: true})
				delete(want, d)
				continue
			}
			p := place{segment: 1, at: rnd.Uint32(), size: 7, sum: rnd.Uint64()}
			if want[d] != (place{}) && rnd.IntN(3) == 0 { // of another place: it is not gone
				rows = append(rows, row{digest: d, place: p, gone: true})
				continue
			}
			rows = append(rows, row{digest: d, place: p})
			want[d] = p
		}
		if err := here.append(rows); err != nil {
			t.Fatal(err)
		}
		refresh(here)
		if step%7 == 3 {
			if err := here.replace(here.rows); err != nil {
				t.Fatal(err)
			}
		}
		refresh(there)
		for _, x := range []*index{here, there} {
			for range 300 {
				d := digests[rnd.IntN(len(digests))]
				p, ok := x.find(d)
				if is, isThere := want[d]; ok != isThere || p != is {
					t.Fatalf("step %d: %v, %t instead of %v", step, p, ok, is)
				}
			}
			all, err := x.rows()
			if err != nil || len(all) != len(want) || slices.ContainsFunc(all, func(r row) bool { return want[r.digest] != r.place }) {
				t.Fatalf("step %d: %d rows instead of %d, %v", step, len(all), len(want), err)
			}
		}
	}
	// Programs from before read all rows one after the other.
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	clear(text[inOrderAt:rowBytes])
	if err := os.WriteFile(file, text, 0o644); err != nil {
		t.Fatal(err)
	}
	before := newIndex(file)
	refresh(before)
	if before.sorted.n > 0 || len(before.later) != len(want) {
		t.Errorf("%d rows are left to them, and %d are in order", len(before.later), before.sorted.n)
	}
}

// An index that was cut off is read as far as it goes.
func TestRowsInOrderThatAreCutOff(t *testing.T) {
	all := map[digest.Digest]place{}
	for i := range uint32(2 * groupRows) {
		all[digest.Of(binary.BigEndian.AppendUint32(nil, i))] = place{segment: 1, at: i, size: 1}
	}
	x := writeInOrder(t, all)
	text, err := os.ReadFile(x.file)
	if err != nil {
		t.Fatal(err)
	}
	const left = 1500
	if err := os.WriteFile(x.file, text[:(1+left)*rowBytes+5], 0o644); err != nil {
		t.Fatal(err)
	}
	for name, x := range map[string]*index{"read before": x, "read now": newIndex(x.file)} {
		if _, err := x.refresh(); err != nil {
			t.Fatal(name, err)
		}
		if rows, err := x.rows(); err != nil || len(rows) != left {
			t.Errorf("%s: %d rows, %v", name, len(rows), err)
		}
	}
}

// Whoever reads a long index puts its rows in order: the next one reads little of it.
func TestALongIndexIsPutInOrder(t *testing.T) {
	dir := t.TempDir()
	blob := func(i int) []byte { return binary.BigEndian.AppendUint32(nil, uint32(i)) }
	one := Open(dir)
	const n = 5 * groupRows
	for i := range n {
		if err := one.Add(digest.Of(blob(i)), blob(i)); err != nil {
			t.Fatal(err)
		}
	}
	if err := one.Flush(); err != nil {
		t.Fatal(err)
	}
	two := Open(dir)
	if _, ok := two.Find(digest.Of(blob(7))); !ok || two.index.sorted.n != n {
		t.Errorf("%t, %d rows are in order", ok, two.index.sorted.n)
	}
	for i := n; i < n+10; i++ { // in a segment that it still appends to
		if err := one.Add(digest.Of(blob(i)), blob(i)); err != nil {
			t.Fatal(err)
		}
	}
	if err := one.Close(); err != nil {
		t.Fatal(err)
	}
	three := Open(dir)
	if _, ok := three.Find(digest.Of(blob(7))); !ok || three.index.sorted.n != n || len(three.index.later) != 10 {
		t.Errorf("%t, %d rows are in order, and %d later", ok, three.index.sorted.n, len(three.index.later))
	}
	if read := len(slices.DeleteFunc(slices.Clone(three.index.sorted.groups), func(b []byte) bool { return b == nil })); read != 1 {
		t.Errorf("of the rows in order, %d groups were read", read)
	}
	for _, s := range []*Set{one, two, three} {
		for i := range n + 10 {
			if got, err := s.Read(digest.Of(blob(i)), nil); err != nil || !bytes.Equal(got, blob(i)) {
				t.Fatal(i, err)
			}
		}
	}
}

// BenchmarkFirstLookup reads an index of 500,000 rows for one blob.
func BenchmarkFirstLookup(b *testing.B) {
	file := filepath.Join(b.TempDir(), indexName)
	var rows []row
	for i := range uint32(500_000) {
		rows = append(rows, row{digest: digest.Of(binary.BigEndian.AppendUint32(nil, i)), place: place{segment: 1, at: i, size: 1}})
	}
	for _, c := range []struct {
		name string
		make func(*index) error
	}{
		{"one after the other", func(x *index) error { return x.append(rows) }},
		{"in order", func(x *index) error { return x.replace(func() ([]row, error) { return rows, nil }) }},
	} {
		if err := c.make(newIndex(file)); err != nil {
			b.Fatal(err)
		}
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				x := newIndex(file)
				if _, err := x.refresh(); err != nil {
					b.Fatal(err)
				}
				if _, ok := x.find(rows[7].digest); !ok {
					b.Fatal("not found")
				}
				x.forget()
			}
		})
	}
}
