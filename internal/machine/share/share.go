// Package share uploads results to the shared cache while other tasks run. What
// cannot be uploaded is left to the service client's spool.
package share

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// Service is the part of the shared cache that receives results.
type Service interface {
	// Queue makes sure that an entry is sent even if this run ends first, and
	// returns what sends it with its blobs, which are in the store, and returns
	// the number of bytes.
	Queue(e protocol.Entry, blobs []protocol.Blob) (send Send, err error)
	// Ending says that the run waits for nothing but uploads from now on.
	Ending()
}

// Send sends one entry.
type Send = func(context.Context) (int64, protocol.Filed, error)

const (
	atOnce     = 4
	endLimit   = 30 * time.Second // how long the end of a run waits
	breakLimit = 2 * time.Second  // the same after an interrupt
	oneLimit   = 5 * time.Minute  // for one upload
)

// Uploads are the uploads of one run. They are safe for concurrent use.
type Uploads struct {
	Service Service
	Warn    func(sentence string)
	Now     func() time.Time
	// Ended is told of each upload that ended, and whether the service has the result; nil:
	// nobody is.
	Ended func(k digest.Digest, shared bool)

	once  sync.Once
	slots chan struct{}
	wg    sync.WaitGroup
	spent transfer.Span
	mu    sync.Mutex
	bytes map[string]int64 // by task
}

// Add queues an entry and starts to upload it.
func (u *Uploads) Add(e protocol.Entry, blobs []protocol.Blob) {
	u.once.Do(func() { u.slots, u.bytes = make(chan struct{}, atOnce), map[string]int64{} })
	send, err := u.Service.Queue(e, blobs)
	if err != nil {
		u.Warn(fmt.Sprintf("the result of %s was not shared: %v", e.Task, err))
		u.ended(e.Key, false)
		return
	}
	u.wg.Go(func() {
		u.slots <- struct{}{}
		defer func() { <-u.slots }()
		u.ended(e.Key, u.upload(e.Task, send))
	})
}

func (u *Uploads) ended(k digest.Digest, shared bool) {
	if u.Ended != nil {
		u.Ended(k, shared)
	}
}

// upload tells whether the service has the result.
func (u *Uploads) upload(task string, send Send) bool {
	// An interrupt of the run does not cancel uploads: Finish gives them a moment.
	ctx, cancel := context.WithTimeout(context.Background(), oneLimit)
	defer cancel()
	end := u.spent.During(u.Now)
	bytes, filed, err := send(ctx)
	end()
	u.mu.Lock()
	u.bytes[task] += bytes
	u.mu.Unlock()
	switch {
	case err != nil && !errors.Is(err, protocol.ErrDown) && !errors.Is(err, protocol.ErrFull):
		u.Warn(fmt.Sprintf("the result of %s was not shared: %v", task, err))
	case filed.Diverged:
		u.Warn(
			fmt.Sprintf(
				"%s gave different outputs than the shared result with the same key: it depends on something that it does not declare",
				task,
			),
		)
	}
	return err == nil
}

// Finish waits for uploads in progress, but not without limit, and returns the
// time that they took, and the bytes by task.
func (u *Uploads) Finish(ctx context.Context) (time.Duration, map[string]int64) {
	u.Service.Ending()
	done := make(chan struct{})
	go func() { u.wg.Wait(); close(done) }()
	limit := time.NewTimer(endLimit)
	defer limit.Stop()
	select {
	case <-done:
	case <-limit.C:
		u.leave()
	case <-ctx.Done():
		limit.Reset(breakLimit)
		select {
		case <-done:
		case <-limit.C:
			u.leave()
		}
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.spent.Total(), maps.Clone(u.bytes)
}

func (u *Uploads) leave() {
	u.Warn("not all results are shared yet: a later run sends the rest")
}
