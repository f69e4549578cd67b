package checkout

import (
	"context"
	"path/filepath"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/lock"
)

// Lock takes the lock of one task in this checkout, so that two processes do
// not run or restore it at once. Waited tells whether another one had it: what
// was known about the task before is then out of date.
func (s *State) Lock(ctx context.Context, task string) (unlock func(), waited bool, err error) {
	return lock.Take(ctx, filepath.Join(s.dir, "locks", digest.Of([]byte(task)).String()[:32]))
}
