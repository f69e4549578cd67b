package runner

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// diskEach is how often the size of a job's directories is looked at.
const diskEach = 3 * time.Second

// watchDisk stops a job that writes more than it may: in its checkout, and in the home and the
// cache that it shares with other jobs beyond what they had.
func watchDisk(ctx context.Context, d jobDirs, limit int64, stop func(error)) {
	before, _ := sizeOf(ctx, d.home, d.cache)
	unread := ""
	for pause(ctx, diskEach) {
		err := tooMuch(ctx, d, before, limit)
		var closed closedError
		switch {
		case ctx.Err() != nil:
			return
		case errors.As(err, &closed) && string(closed) != unread: // a test may make one for a moment
			unread = string(closed)
		case err != nil:
			stop(err)
			return
		default:
			unread = ""
		}
	}
}

// closedError is a directory of a job that cannot be listed.
type closedError string

func (e closedError) Error() string {
	return fmt.Sprintf("it made a directory that this runner cannot list, so its size is unknown: %q", filepath.Base(string(e)))
}

// tooMuch looks once at what a job has written. Before is the size of what it shares with others
// when it began.
func tooMuch(ctx context.Context, d jobDirs, before, limit int64) error {
	total, closed := sizeOf(ctx, d.root, d.home, d.cache)
	switch {
	case total-before > limit:
		return fmt.Errorf("it wrote more than the %d MB that this runner allows", limit>>20)
	case closed != "":
		return closedError(closed)
	}
	return nil
}

// sizeOf adds up the sizes of the regular files below directories. Closed is one of those that
// cannot be listed.
func sizeOf(ctx context.Context, dirs ...string) (total int64, closed string) {
	for _, dir := range dirs {
		_ = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil {
				if errors.Is(err, fs.ErrPermission) {
					closed = path
				}
				return ctx.Err() // the others still count
			}
			if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
				total += info.Size()
			}
			return ctx.Err()
		})
	}
	return total, closed
}

const (
	// mostShelves is for how many shelves a runner keeps homes and caches.
	mostShelves = 40
	// keepShelf is how long it keeps those of a shelf that no job is for.
	keepShelf = 30 * 24 * time.Hour
)

// shelves counts the jobs that use the home and the cache of a shelf.
type shelves struct {
	mu   sync.Mutex
	uses map[string]int
}

func (r *Runner) sharedDir(shelf string) string {
	return filepath.Join(r.Dir, "for", digest.Of([]byte(shelf)).Short())
}

// use notes that a job uses the directories of a shelf. The function that it returns ends that,
// and removes directories of shelves that have not been used for long, that are too many, or that
// are larger than a job may write.
func (r *Runner) use(shelf string) func() {
	dir := r.sharedDir(shelf)
	r.shelves.mu.Lock()
	defer r.shelves.mu.Unlock()
	if r.shelves.uses == nil {
		r.shelves.uses = map[string]int{}
	}
	r.shelves.uses[dir]++
	return func() {
		r.shelves.mu.Lock()
		defer r.shelves.mu.Unlock()
		if r.shelves.uses[dir]--; r.shelves.uses[dir] == 0 {
			delete(r.shelves.uses, dir)
		}
		now := time.Now()
		_ = os.Chtimes(dir, now, now) // if this fails, it is removed earlier
		if size, _ := sizeOf(context.Background(), dir); size > r.Disk && r.shelves.uses[dir] == 0 {
			r.forget(dir)
		}
		r.trim(now)
	}
}

// trim removes what was used longest ago.
func (r *Runner) trim(now time.Time) {
	list, err := os.ReadDir(filepath.Join(r.Dir, "for"))
	if err != nil {
		return
	}
	used := map[string]time.Time{}
	var names []string
	for _, e := range list {
		if info, err := e.Info(); err == nil {
			names, used[e.Name()] = append(names, e.Name()), info.ModTime()
		}
	}
	slices.SortFunc(names, func(a, b string) int { return used[b].Compare(used[a]) })
	for i, name := range names {
		dir := filepath.Join(r.Dir, "for", name)
		if r.shelves.uses[dir] == 0 && (i >= mostShelves || now.Sub(used[name]) > keepShelf) {
			r.forget(dir)
		}
	}
}

// forget removes the home and the cache of a shelf.
func (r *Runner) forget(dir string) {
	if err := removeAll(dir); err != nil {
		r.Say("a home and cache of jobs could not be removed: " + err.Error())
	}
}
