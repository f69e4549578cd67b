// Package lock provides lock files by which processes of one machine exclude
// each other. A lock ends with the process that holds it, however it ends.
package lock

import (
	"context"
	"fmt"
	"os"
	"sync"
	"time"

	"github.com/gofrs/flock"
)

// interval is how often a lock that another process holds is tried again: there
// is no event to wait for.
const interval = 50 * time.Millisecond

func open(file string) *flock.Flock {
	return flock.New(file, flock.SetFlag(os.O_CREATE|os.O_RDWR), flock.SetPermissions(0o644))
}

// Take takes the lock of a file, and creates the file if necessary. Waited
// tells whether another process held it.
func Take(ctx context.Context, file string) (release func(), waited bool, err error) {
	release, ok, err := Try(file)
	if err != nil || ok {
		return release, false, err
	}
	l := open(file)
	if _, err := l.TryLockContext(ctx, interval); err != nil {
		return nil, true, fmt.Errorf("waiting for the lock %s: %w", file, err)
	}
	return releaser(l), true, nil
}

// Try takes the lock of a file if it is free.
func Try(file string) (release func(), ok bool, err error) {
	l := open(file)
	if ok, err = l.TryLock(); err != nil || !ok {
		return nil, false, err
	}
	return releaser(l), true, nil
}

// TakeShared takes the lock of a file together with others that do the same: nobody can [Take] it
// meanwhile.
func TakeShared(ctx context.Context, file string) (release func(), err error) {
	l := open(file)
	if ok, err := l.TryRLock(); err == nil && ok {
		return releaser(l), nil
	}
	if _, err := l.TryRLockContext(ctx, interval); err != nil {
		return nil, fmt.Errorf("waiting for the lock %s: %w", file, err)
	}
	return releaser(l), nil
}

func releaser(l *flock.Flock) func() {
	return func() { _ = l.Close() } // closing the file releases the lock in any case
}

// Hold runs do while it holds the lock of a file, for which it waits.
func Hold(file string, do func() error) error {
	l := open(file)
	if err := l.Lock(); err != nil {
		return err
	}
	defer l.Close()
	return do()
}

// Kept is a lock that is taken again and again: its file stays open. It is safe for concurrent
// use.
type Kept struct {
	File string

	mu   sync.Mutex
	open *os.File
}

// Hold runs do while it holds the lock, for which it waits.
func (k *Kept) Hold(do func() error) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.open == nil {
		f, err := os.OpenFile(k.File, os.O_CREATE|os.O_RDWR, 0o644)
		if err != nil {
			return err
		}
		k.open = f
	}
	return holding(k.open, do)
}

// Close closes the file.
func (k *Kept) Close() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.open == nil {
		return nil
	}
	f := k.open
	k.open = nil
	return f.Close()
}
