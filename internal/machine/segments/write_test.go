package segments

import (
	"bytes"
	"fmt"
	"os"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

// large is a blob of about 30 kB.
func large(i int) []byte { return bytes.Repeat(fmt.Appendf(nil, "line of blob %d\n", i), 1800) }

func expect(t *testing.T, s *Set, i int) {
	t.Helper()
	if b, err := s.Read(digest.Of(large(i)), nil); err != nil || !bytes.Equal(b, large(i)) {
		t.Errorf("blob %d: %d bytes, %v", i, len(b), err)
	}
}

// While one megabyte is written, others add the next one: each blob can be read at once, wherever
// it is, and the segment is whole.
func TestBlobsAreAddedWhileOthersAreWritten(t *testing.T) {
	dir := t.TempDir()
	s := Open(dir)
	const each, adders = 60, 8
	var wg sync.WaitGroup
	for a := range adders {
		wg.Go(func() {
			for i := a * each; i < (a+1)*each; i++ {
				if err := s.Add(digest.Of(large(i)), large(i)); err != nil {
					t.Error(err)
				}
				expect(t, s, i)
				if i%20 == 0 {
					expect(t, s, a*each)
				}
			}
		})
	}
	wg.Wait()
	if s.writes.written < 8*much {
		t.Errorf("only %d bytes were written on the way", s.writes.written)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	other := Open(dir)
	for i := range adders * each {
		expect(t, other, i)
	}
	list, err := other.list()
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	if rows, err := other.scan(list[0].id); err != nil || len(rows) != adders*each {
		t.Errorf("the segment has %d blobs: %v", len(rows), err)
	}
}

// What cannot be written is reported, and is not lost as long as the process lives.
func TestWhatCouldNotBeWrittenIsWrittenLater(t *testing.T) {
	dir := t.TempDir()
	s := Open(dir)
	if err := s.Add(digest.Of(large(0)), large(0)); err != nil {
		t.Fatal(err)
	}
	s.mu.Lock()
	good := s.writes.f
	bad, err := os.Open(good.Name()) // only for reading
	if err != nil {
		t.Fatal(err)
	}
	defer bad.Close()
	s.writes.f = bad
	s.mu.Unlock()
	n, failed := 1, 0
	for ; failed < 3 && n < 200; n++ {
		if err := s.Add(digest.Of(large(n)), large(n)); err != nil {
			failed++
		}
	}
	if failed < 3 {
		t.Error("nobody was told")
	}
	if err := s.Flush(); err == nil {
		t.Error("flushing was not told")
	}
	for i := range n {
		expect(t, s, i)
	}
	if other := Open(dir); len(other.All()) > 0 {
		t.Error("others see what is not there")
	}
	s.mu.Lock()
	s.writes.f = good
	s.mu.Unlock()
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	other := Open(dir)
	for i := range n {
		expect(t, other, i)
	}
}
