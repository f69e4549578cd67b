package remote

import (
	"context"
	"io"
	"sync"
	"time"
)

// watch cancels a request on which no byte has passed for too long.
type watch struct {
	timer  *time.Timer
	cancel context.CancelFunc
	mu     sync.Mutex
	late   bool
}

func stalling(parent context.Context) (context.Context, *watch) {
	ctx, cancel := context.WithCancel(parent)
	w := &watch{cancel: cancel}
	w.timer = time.AfterFunc(stallLimit, func() {
		w.mu.Lock()
		w.late = true
		w.mu.Unlock()
		cancel()
	})
	return ctx, w
}

func (w *watch) fired() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.late
}

func (w *watch) stop() {
	w.timer.Stop()
	w.cancel()
}

type watched struct {
	io.Reader
	w *watch
}

func (r *watched) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if n > 0 {
		r.w.timer.Reset(stallLimit)
	}
	if err != nil && r.w.fired() {
		err = context.DeadlineExceeded
	}
	return n, err
}

type watchedBody struct {
	watched
	body io.Closer
}

func (b *watchedBody) Close() error {
	err := b.body.Close()
	b.w.stop()
	return err
}
