package checkout

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

func TestTheJournalSurvivesACrash(t *testing.T) {
	root := t.TempDir()
	s, err := Open(root)
	if err != nil {
		t.Fatal(err)
	}
	rec := Record{Task: "a@p", Key: digest.Of([]byte("k")), Run: "r", At: time.Now(), Took: 1}
	for range 3 {
		if err := s.Note(rec); err != nil {
			t.Fatal(err)
		}
	}
	s.Close()
	file := filepath.Join(root, Dir, "journal")
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, tail := range []string{`{"v":1,"task":"b@p","key":"`, "\x00\x00\x00", `{"v":99,"task":"a@p"}` + "\n"} {
		if err := os.WriteFile(file, append(append([]byte{}, data...), tail...), 0o644); err != nil {
			t.Fatal(err)
		}
		again, err := Open(root)
		if err != nil {
			t.Fatal(err)
		}
		if got, ok := again.Last("a@p"); !ok || got.Key != rec.Key {
			t.Errorf("after %q: %+v", tail, got)
		}
		next := rec
		next.Task = "c@p"
		if err := again.Note(next); err != nil {
			t.Fatal(err)
		}
		again.Close()
		third, err := Open(root)
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := third.Last("c@p"); !ok {
			t.Errorf("what was noted after %q is lost", tail)
		}
		third.Close()
	}
	if s, err = Open(root); err != nil {
		t.Fatal(err)
	}
	for range 1200 {
		if err := s.Note(rec); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(file); err != nil || info.Size() > 4000 {
		t.Errorf("a journal that grew long is not made short: %v, %v", info.Size(), err)
	}
}

func TestALockIsHeldByOneAtATime(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	unlock, waited, err := s.Lock(context.Background(), "a@p")
	if err != nil || waited {
		t.Fatal(waited, err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 120*time.Millisecond)
	defer cancel()
	if _, _, err := s.Lock(ctx, "a@p"); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a second one: %v", err)
	}
	if other, _, err := s.Lock(context.Background(), "b@p"); err != nil {
		t.Errorf("another task's: %v", err)
	} else {
		other()
	}
	go func() {
		time.Sleep(60 * time.Millisecond)
		unlock()
	}()
	if again, waited, err := s.Lock(context.Background(), "a@p"); err != nil || !waited {
		t.Errorf("after it was let go: waited %v, %v", waited, err)
	} else {
		again()
	}
}
