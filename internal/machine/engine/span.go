package engine

import (
	"sync"
	"time"
)

// span measures for how long at least one of several things that overlap was
// under way.
type span struct {
	mu    sync.Mutex
	open  int
	since time.Time
	sum   time.Duration
}

// during begins one of them; what it returns ends it.
func (s *span) during(now func() time.Time) (end func()) {
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

// total returns what has been measured so far.
func (s *span) total() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sum
}
