package api

import (
	"context"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// uses gathers which entries were asked for, and writes it down now and then:
// a lookup itself writes nothing.
type uses struct {
	mu    sync.Mutex
	fresh map[records.Used]bool
	known map[records.Used]bool // written down today
	day   string
}

// flushUses is how often uses are written down.
const flushUses = time.Minute

func newUses() *uses {
	return &uses{fresh: map[records.Used]bool{}, known: map[records.Used]bool{}}
}

func (u *uses) note(repository int64, entries []protocol.Entry) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, e := range entries {
		if k := (records.Used{Repository: repository, Shelf: e.Shelf, Key: e.Key}); !u.known[k] {
			u.fresh[k] = true
		}
	}
}

// flush writes down what was gathered. What could not be is kept for the next
// time.
func (u *uses) flush(ctx context.Context, db *records.DB) error {
	const batch = 5000
	for {
		u.mu.Lock()
		if day := time.Now().UTC().Format(time.DateOnly); day != u.day {
			u.day = day
			clear(u.known)
		}
		var list []records.Used
		for k := range u.fresh {
			if list = append(list, k); len(list) == batch {
				break
			}
		}
		u.mu.Unlock()
		if len(list) == 0 {
			return nil
		}
		if err := db.NoteUse(ctx, list); err != nil {
			return err
		}
		u.mu.Lock()
		for _, k := range list {
			delete(u.fresh, k)
			u.known[k] = true
		}
		u.mu.Unlock()
	}
}

func (s *Server) flushUses(ctx context.Context) {
	tick := time.NewTicker(flushUses)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := s.uses.flush(ctx, s.Records); err != nil && ctx.Err() == nil {
				s.Log.Warn("noting which entries were used", "error", err)
			}
		}
	}
}

// Flush writes down which entries were asked for since the last time.
func (s *Server) Flush(ctx context.Context) error { return s.uses.flush(ctx, s.Records) }
