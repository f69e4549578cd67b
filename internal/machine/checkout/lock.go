package checkout

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/lock"
)

// Lock takes the lock of one task in this checkout, so that two processes do
// not run or restore it at the same time. Waited tells whether another process
// held it: the caller's knowledge of the task is then out of date.
func (s *State) Lock(ctx context.Context, task string) (unlock func(), waited bool, err error) {
	if s.Barred != nil {
		if err := s.Barred(task); err != nil {
			return nil, false, err
		}
	}
	return lock.Take(ctx, filepath.Join(s.dir, "locks", LockName(task)))
}

// LockForReading keeps every process from running or restoring a task, because its outputs are being
// read.
func (s *State) LockForReading(ctx context.Context, task string) (unlock func(), err error) {
	return lock.TakeShared(ctx, filepath.Join(s.dir, "locks", LockName(task)))
}

// LockName is the name of the file that is a task's lock.
func LockName(task string) string { return digest.Of([]byte(task)).String()[:32] }

// IsRunning tells whether a run goes on in this checkout.
func (s *State) IsRunning(run string) bool {
	if run == "" || filepath.Base(run) != run {
		return false
	}
	_, err := os.Stat(filepath.Join(s.dir, "running", run))
	return err == nil
}

// StagedDir is the directory with outputs that are being written.
func (s *State) StagedDir() string { return filepath.Join(s.dir, "staged") }

// SealedDir is the directory with the staged trees of a run's sealed tasks.
func (s *State) SealedDir(run string) string { return filepath.Join(s.dir, "sealed", run) }

// Begin marks a run as in progress in this checkout, until end is called or
// this process ends in any way. Before that, it calls left for every run whose
// process ended without saying so, to clean up after it.
func (s *State) Begin(run string, left func(run string)) (end func(), err error) {
	dir := filepath.Join(s.dir, "running")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("opening .grayloft in the checkout: %w", err)
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("opening .grayloft in the checkout: %w", err)
	}
	for _, e := range list {
		file := filepath.Join(dir, e.Name())
		unlock, ok, err := lock.Try(file)
		if err != nil || !ok {
			continue // still in progress, or another process is cleaning up
		}
		left(e.Name())
		_ = os.RemoveAll(s.SealedDir(e.Name()))
		_ = os.Remove(file)
		unlock()
	}
	// The file appears already locked, so that no process takes the run for an
	// abandoned one.
	file, fresh := filepath.Join(dir, run), filepath.Join(s.dir, "locks", "run-"+run)
	unlock, ok, err := lock.Try(fresh)
	if err == nil && !ok {
		err = fmt.Errorf("another process holds %s", fresh)
	}
	if err == nil {
		if err = os.Rename(fresh, file); err != nil {
			unlock()
		}
	}
	if err != nil {
		return nil, fmt.Errorf("opening .grayloft in the checkout: %w", err)
	}
	return func() {
		_ = os.RemoveAll(s.SealedDir(run))
		_ = os.Remove(file)
		unlock()
	}, nil
}

// ScratchDir is the directory with the scratch of a sealed task.
func (s *State) ScratchDir(task string) string {
	return filepath.Join(s.dir, "scratch", digest.Of([]byte(task)).String()[:32])
}

// ProbeDir is the directory with the remembered answers of probes.
func (s *State) ProbeDir() string { return filepath.Join(s.dir, "probes") }
