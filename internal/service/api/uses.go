package api

import (
	"context"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// uses collects which entries were looked up, and records it periodically: a
// lookup itself writes nothing.
type uses struct {
	mu    sync.Mutex
	fresh map[records.Used]bool
	known map[records.Used]bool // recorded today
	day   string
}

// flushUses is the interval at which uses are recorded.
const flushUses = time.Minute

func newUses() *uses {
	return &uses{fresh: map[records.Used]bool{}, known: map[records.Used]bool{}}
}

func (u *uses) note(repository int64, entries []protocol.Entry) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for i := range entries {
		e := &entries[i]
		if k := (records.Used{Repository: repository, Shelf: e.Shelf, Key: e.Key}); !u.known[k] {
			u.fresh[k] = true
		}
	}
}

// flush records the collected uses. Those that fail are kept for the next time.
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
				s.Log.Warn("recording the use of entries", "error", err)
			}
		}
	}
}

// Flush records which entries were looked up since the last time.
func (s *Server) Flush(ctx context.Context) error { return s.uses.flush(ctx, s.Records) }
