package api

import (
	"context"
	"errors"
	"sync"
	"testing"

	"grayloft.example/grayloft/internal/service/records"
)

// A count shows what was stored when it began. What is stored until it ends must not be forgotten.
func TestWhatIsStoredDuringACountIsNotForgotten(t *testing.T) {
	began, release := make(chan struct{}), make(chan struct{})
	var counts int
	l := &ledger{quota: 100, of: map[int64]*account{}, count: func(context.Context, int64) (records.StoredBytes, error) {
		if counts++; counts == 2 {
			close(began)
			<-release
		}
		return records.StoredBytes{}, nil // as it was before anything was stored
	}}
	first, err := l.reserve(t.Context(), 1, "trusted", 60)
	if err != nil {
		t.Fatal(err)
	}
	l.recount()
	var wg sync.WaitGroup
	errs := make([]error, 3)
	wg.Go(func() { _, errs[0] = l.reserve(t.Context(), 1, "trusted", 60) })
	<-began
	for i := range 2 {
		wg.Go(func() { _, errs[1+i] = l.reserve(t.Context(), 1, "trusted", 60) })
	}
	first.end(true)
	close(release)
	wg.Wait()
	for i, err := range errs {
		if full := (fullError{}); !errors.As(err, &full) {
			t.Errorf("upload %d of 60 bytes: %v, with 60 of 100 stored", i, err)
		}
	}
	if counts != 2 {
		t.Errorf("it was counted %d times", counts)
	}
	if _, err := l.reserve(t.Context(), 1, "trusted", 40); err != nil {
		t.Errorf("what fits: %v", err)
	}
}

func TestACountThatFailsIsRepeatedAndACleanupDuringOneAsWell(t *testing.T) {
	fails, counts := true, 0
	var l *ledger
	l = &ledger{quota: 100, of: map[int64]*account{}, count: func(context.Context, int64) (records.StoredBytes, error) {
		counts++
		if fails {
			return records.StoredBytes{}, errors.New("the database is away")
		}
		if counts == 2 {
			l.recount() // a cleanup ends meanwhile
		}
		return records.StoredBytes{Live: 50, Owned: map[string]int64{"trusted": 50}}, nil
	}}
	if _, err := l.reserve(t.Context(), 1, "trusted", 1); err == nil {
		t.Error("room without a count")
	}
	fails = false
	for range 3 {
		if _, err := l.reserve(t.Context(), 1, "trusted", 1); err != nil {
			t.Error(err)
		}
	}
	if counts != 3 {
		t.Errorf("it was counted %d times, want 3: a failure, one during a cleanup, and one after it", counts)
	}
}
