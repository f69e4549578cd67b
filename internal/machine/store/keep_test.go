package store

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
)

// aged makes a cache with an entry for each age in days, each with its own
// output of a thousand bytes and one that all share.
func aged(t *testing.T, ages ...int) (*Store, []protocol.Entry) {
	t.Helper()
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	s.small.Now = func() time.Time { return time.Now().Add(-2 * young) }
	put := func(b []byte) digest.Digest {
		d, err := s.Put(b)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	shared := put([]byte("shared"))
	var out []protocol.Entry
	for i, days := range ages {
		own := put(append(make([]byte, 1000), byte(i)))
		list := listing.List{
			{Path: "own", Kind: listing.File, Size: 1001, Digest: own},
			{Path: "shared", Kind: listing.File, Size: 6, Digest: shared},
		}
		e := protocol.Entry{
			Key:         digest.Of([]byte{byte(i)}),
			Task:        "t@p",
			Listing:     put(list.Encode()),
			Log:         put([]byte{1, byte(i)}),
			Ingredients: put([]byte{2, byte(i)}),
		}
		if _, err := s.PutEntry(e, Origin{Repo: "r"}); err != nil {
			t.Fatal(err)
		}
		at := time.Now().AddDate(0, 0, -days)
		if err := os.Chtimes(s.entry(e.Key, Origin{Repo: "r"}), at, at); err != nil {
			t.Fatal(err)
		}
		out = append(out, e)
	}
	return s, out
}

func TestTrimDeletesTheLeastRecentlyUsed(t *testing.T) {
	s, e := aged(t, 40, 10, 3)
	dry, err := s.Trim(context.Background(), Limits{Age: 30 * 24 * time.Hour, Dry: true}, time.Now())
	if err != nil || dry.Entries != 1 || dry.Blobs != 4 {
		t.Fatalf("%+v, %v", dry, err)
	}
	if _, ok := s.Entry(e[0].Key, Origin{Repo: "r"}); !ok {
		t.Fatal("a dry run took something away")
	}
	at := time.Now().AddDate(0, 0, -40) // reading it counted as a use
	if err := os.Chtimes(s.entry(e[0].Key, Origin{Repo: "r"}), at, at); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Trim(context.Background(), Limits{Age: 30 * 24 * time.Hour}, time.Now()); err != nil || got.Entries != 1 ||
		got.Blobs != 4 {
		t.Fatalf("by age: %+v, %v", got, err)
	}
	got, err := s.Trim(context.Background(), Limits{Bytes: 1500}, time.Now())
	if err != nil || got.Entries != 1 || got.Left > 1500 {
		t.Fatalf("by size: %+v, %v", got, err)
	}
	if _, ok := s.Entry(e[1].Key, Origin{Repo: "r"}); ok {
		t.Error("the older of two was kept")
	}
	last, ok := s.Entry(e[2].Key, Origin{Repo: "r"})
	if !ok || !s.Has(last.Listing) || !s.Has(last.Log) || !s.Has(last.Ingredients) {
		t.Error("what is left is not whole")
	}
	if text, err := s.Read(last.Listing); err != nil {
		t.Error(err)
	} else if list, err := listing.Parse(text); err != nil || !s.Has(list[0].Digest) || !s.Has(list[1].Digest) {
		t.Errorf("its outputs are gone: %v", err)
	}
}

func TestTrimKeepsRecentAndUnsentItems(t *testing.T) {
	s, e := aged(t, 40)
	waiting, err := s.Put([]byte("to be sent"))
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Spool("entry-x", []byte(`{"log":"`+waiting.String()+`"}`)); err != nil {
		t.Fatal(err)
	}
	s.small.Now = time.Now
	orphan, err := s.Put([]byte("work under way"))
	if err != nil {
		t.Fatal(err)
	}
	large, err := s.Put(make([]byte, 2*smallBlob))
	if err != nil {
		t.Fatal(err)
	}
	old, err := s.Put(make([]byte, 3*smallBlob))
	if err != nil {
		t.Fatal(err)
	}
	at := time.Now().Add(-2 * young)
	if err := os.Chtimes(s.blob(old), at, at); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Trim(context.Background(), Limits{Bytes: 1}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if s.Has(old) || !s.Has(large) {
		t.Errorf("large ones: old %v, young %v", s.Has(old), s.Has(large))
	}
	if !s.Has(orphan) || !s.Has(waiting) || s.Has(e[0].Listing) {
		t.Errorf("young %v, waiting %v, old %v", s.Has(orphan), s.Has(waiting), s.Has(e[0].Listing))
	}
}

func TestVerifyFindsEveryFlippedBit(t *testing.T) {
	s, e := aged(t, 1, 1)
	large, err := s.Put(make([]byte, 2*smallBlob))
	if err != nil {
		t.Fatal(err)
	}
	flipped := 0
	for _, d := range []digest.Digest{e[0].Listing, e[1].Log, large} {
		text, err := s.Read(d)
		if err != nil {
			t.Fatal(err)
		}
		files, _ := filepath.Glob(filepath.Join(s.Dir(), "segments", "*.tar"))
		for _, file := range append(files, s.blob(large)) {
			b, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if at := bytes.Index(b, text); at >= 0 {
				b[at+len(text)/2] ^= 4
				if err := os.WriteFile(file, b, 0o644); err != nil {
					t.Fatal(err)
				}
				flipped++
			}
		}
	}
	read, damaged, err := s.Verify(context.Background(), nil)
	if err != nil || flipped != 3 || len(damaged) != flipped || read != 10 {
		t.Errorf("read %d, damaged %d, %v", read, len(damaged), err)
	}
	if _, damaged, _ = s.Verify(context.Background(), nil); len(damaged) != 0 || s.Has(e[0].Listing) {
		t.Error("what is damaged was left there")
	}
}
