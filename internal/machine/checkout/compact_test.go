package checkout

import (
	"fmt"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

// Two processes use one checkout; one of them compacts the journal while the
// other goes on.
func TestCompactingTheJournalLosesNothingOfAnotherProcess(t *testing.T) {
	root := t.TempDir()
	open := func() *State {
		s, err := Open(root)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	note := func(s *State, task, key string) {
		if err := s.Note(Record{Task: task, Key: digest.Of([]byte(key))}); err != nil {
			t.Error(err)
		}
	}
	one, other := open(), open()
	note(other, "before@x", "1")
	for i := range 1200 {
		note(one, "make@x", fmt.Sprint(i))
	}
	var wg sync.WaitGroup
	wg.Go(func() {
		for i := range 300 {
			note(other, fmt.Sprintf("during-%d@x", i), "2")
		}
	})
	if err := one.Close(); err != nil { // it has grown long, so this compacts it
		t.Fatal(err)
	}
	wg.Wait()
	note(other, "after@x", "3")
	if err := other.Close(); err != nil {
		t.Fatal(err)
	}
	last := open()
	defer last.Close()
	tasks := []string{"before@x", "make@x", "after@x"}
	for i := range 300 {
		tasks = append(tasks, fmt.Sprintf("during-%d@x", i))
	}
	lost := 0
	for _, task := range tasks {
		if _, ok := last.Last(task); !ok {
			lost++
		}
	}
	if lost > 0 {
		t.Errorf("%d of %d records are lost", lost, len(tasks))
	}
	if last.lines > 1200 {
		t.Errorf("the journal was not compacted: %d lines", last.lines)
	}
}
