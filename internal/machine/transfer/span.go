package transfer

import (
	"sync"
	"time"
)

// Span measures for how long at least one of several overlapping activities was
// in progress.
type Span struct {
	mu    sync.Mutex
	open  int
	since time.Time
	sum   time.Duration
}

// During starts an activity; the returned function ends it.
func (s *Span) During(now func() time.Time) (end func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open++; s.open == 1 {
		s.since = now()
	}
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.open--; s.open == 0 {
			s.sum += now().Sub(s.since)
		}
	}
}

// Total returns the time measured so far.
func (s *Span) Total() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sum
}
