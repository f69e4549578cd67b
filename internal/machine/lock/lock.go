// Package lock holds files that processes of one machine exclude each other
// with. A lock goes with the process that has it, however that ends.
package lock

import (
	"context"
	"time"
)

// Take takes the lock of a file, which is made where it is not there. Waited
// tells whether another process had it.
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
		// The holder is another process, of which there is no event to wait for.
		select {
		case <-ctx.Done():
			return nil, waited, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
