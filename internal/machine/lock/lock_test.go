package lock

import (
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
)

// However it is taken, one at a time has the lock of a file.
func TestALockThatStaysOpenExcludesOthers(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lock")
	one, other := &Kept{File: file}, &Kept{File: file}
	var wg sync.WaitGroup
	var inside, total atomic.Int64
	work := func() error {
		if n := inside.Add(1); n != 1 {
			t.Errorf("%d are inside at once", n)
		}
		total.Add(1)
		inside.Add(-1)
		return nil
	}
	for _, hold := range []func(func() error) error{one.Hold, other.Hold, func(do func() error) error { return Hold(file, do) }} {
		for range 2 {
			wg.Go(func() {
				for range 200 {
					if err := hold(work); err != nil {
						t.Error(err)
					}
				}
			})
		}
	}
	wg.Wait()
	if n := total.Load(); n != 1200 {
		t.Errorf("the lock was held %d times, not 1200", n)
	}
	if err := one.Hold(func() error {
		if _, ok, err := Try(file); ok || err != nil {
			t.Errorf("a lock that is held was taken: %v", err)
		}
		return os.ErrClosed
	}); err != os.ErrClosed {
		t.Errorf("the error of what was done is %v", err)
	}
	if err := one.Close(); err != nil {
		t.Error(err)
	}
	if release, ok, err := Try(file); !ok || err != nil {
		t.Errorf("the lock was not given back: %v", err)
	} else {
		release()
	}
	if err := other.Close(); err != nil {
		t.Error(err)
	}
	missing := &Kept{File: filepath.Join(t.TempDir(), "no", "lock")}
	if err := missing.Hold(func() error { t.Error("held"); return nil }); !os.IsNotExist(err) {
		t.Errorf("a file that cannot be made: %v", err)
	}
}
