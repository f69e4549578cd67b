// Package lock provides lock files by which processes of one machine exclude
// each other. A lock ends with the process that holds it, however it ends.
package lock

import (
	"context"
	"time"
)

// Take takes the lock of a file, and creates the file if necessary. Waited
// tells whether another process held it.
func Take(ctx context.Context, file string) (release func(), waited bool, err error) {
	for {
		release, ok, err := Try(file)
		if err != nil {
			return nil, waited, err
		}
		if ok {
			return release, waited, nil
		}
		waited = true
		// The holder is another process, so there is no event to wait for.
		select {
		case <-ctx.Done():
			return nil, waited, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
