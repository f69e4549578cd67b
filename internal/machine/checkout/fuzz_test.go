package checkout

import (
	"os"
	"path/filepath"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

// Only unmodified lines of the journal and the history count, whatever the
// files contain.
func FuzzJournalAndHistory(f *testing.F) {
	dir := f.TempDir()
	s, err := Open(dir)
	if err != nil {
		f.Fatal(err)
	}
	if err := s.Note(Record{Task: "a@b", Key: digest.Of([]byte("k")), Listing: digest.Of([]byte("l")), Failed: true}); err != nil {
		f.Fatal(err)
	}
	if err := s.Remember(PastRun{ID: "r", Asked: []string{"a"}}); err != nil {
		f.Fatal(err)
	}
	journal, _ := os.ReadFile(s.file())
	history, _ := os.ReadFile(s.historyFile())
	f.Add(journal, history)
	f.Add(append(journal[:40:40], journal...), append(history[:20:20], history...))
	f.Fuzz(func(t *testing.T, journal, history []byte) {
		here := filepath.Join(t.TempDir(), "c")
		if err := os.MkdirAll(filepath.Join(here, Dir), 0o755); err != nil {
			t.Fatal(err)
		}
		for name, text := range map[string][]byte{"journal": journal, "history": history} {
			if err := os.WriteFile(filepath.Join(here, Dir, name), text, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		s, err := Open(here)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if _, err := s.History(); err != nil {
			t.Fatal(err)
		}
		if r, ok := s.Last("a@b"); ok && (!r.Failed || r.Key != digest.Of([]byte("k"))) {
			t.Errorf("a record that nobody wrote: %+v", r)
		}
	})
}
