package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
)

// uploads shares entries beside the work, and finishes them at the end of the
// run. What cannot be sent is left to the shared cache's own spool.
type uploads struct {
	r     *run
	wg    sync.WaitGroup
	slots chan struct{}

	mu    sync.Mutex
	bytes int64
	spent span
}

const (
	uploadsAtOnce = 4
	uploadsFinish = 30 * time.Second // how long the end of a run waits for them
	uploadsBreak  = 2 * time.Second  // the same, for one that was interrupted
)

func newUploads(r *run) *uploads { return &uploads{r: r, slots: make(chan struct{}, uploadsAtOnce)} }

func (u *uploads) add(e protocol.Entry, list listing.List) {
	blobs := blobsOf(list)
	u.wg.Go(func() {
		u.slots <- struct{}{}
		defer func() { <-u.slots }()
		// Interrupting the run does not lose what was made: the spool keeps it.
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
		defer cancel()
		end := u.spent.during(u.r.Now)
		moved, filed, err := u.r.Shared.Share(ctx, e, blobs)
		end()
		u.mu.Lock()
		u.bytes += moved
		u.mu.Unlock()
		switch {
		case err != nil && !errors.Is(err, protocol.ErrDown) && !errors.Is(err, protocol.ErrFull):
			u.r.Observer.Warn(fmt.Sprintf("%s was made but not shared: %v", e.Task, err))
		case filed.Diverged:
			u.r.Observer.Warn(fmt.Sprintf("%s came out different from what is shared under the same key: it depends on something that it does not declare", e.Task))
		}
	})
}

const notShared = "what was made is not all shared yet: the rest is sent by a later run"

// finish waits for what is under way, and returns the time spent on sharing
// and the bytes sent.
func (u *uploads) finish(ctx context.Context) (time.Duration, int64) {
	done := make(chan struct{})
	go func() { u.wg.Wait(); close(done) }()
	limit := time.NewTimer(uploadsFinish)
	defer limit.Stop()
	select {
	case <-done:
	case <-ctx.Done(): // an interrupt does not wait for long
		limit.Reset(uploadsBreak)
		select {
		case <-done:
		case <-limit.C:
			u.r.Observer.Warn(notShared)
		}
	case <-limit.C:
		u.r.Observer.Warn(notShared)
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.spent.total(), u.bytes
}
