package checkout

import (
	"context"
	"path/filepath"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// Lock takes the lock of one task in this checkout, so that two processes do
// not run or restore it at once. Waited tells whether another one had it: what
// was known about the task before is then out of date.
func (s *State) Lock(ctx context.Context, task string) (unlock func(), waited bool, err error) {
	file := filepath.Join(s.dir, "locks", digest.Of([]byte(task)).String()[:32])
	for {
		unlock, ok, err := tryLock(file)
		if err != nil {
			return nil, waited, err
		}
		if ok {
			return unlock, waited, nil
		}
		waited = true
		// The holder is another process, of which there is no event to wait for.
		select {
		case <-ctx.Done():
			return nil, waited, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
