package outputs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"runtime"
	"strings"
	"syscall"

	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/beneath"
	"grayloft.example/grayloft/internal/machine/checkout"
)

// Clear empties the task's writes: unchanged files of its last listing are
// deleted, files that git tracks are set aside for [Set.PutBack], and
// everything else is moved to .grayloft/displaced and reported by name.
func (o *Set) Clear(ctx context.Context, last listing.List) error { return o.clear(ctx, last, nil) }

// clear is Clear, but for the files that stay.
func (o *Set) clear(ctx context.Context, last listing.List, stays map[string]bool) error {
	if err := o.PutBack(); err != nil { // set aside by a run that was killed
		return err
	}
	base, err := o.open()
	if base == nil || err != nil {
		return err
	}
	defer base.Close()
	found, special, err := o.search(o.Task.Writes)
	if errors.Is(err, beneath.ErrNoDirectory) {
		err = nil // what is behind a link is somebody else's; keeping the outputs will fail
	}
	if err != nil || len(found)+len(special) == 0 {
		return err
	}
	top, err := os.OpenRoot(o.root())
	if err != nil {
		return err
	}
	defer top.Close()
	tracked, err := o.tracked(ctx)
	if err != nil {
		return err
	}
	known := map[string]listing.Row{}
	for _, r := range last {
		known[r.Path] = r
	}
	for _, p := range special {
		found = append(found, listing.Row{Path: p}) // of no kind that a listing has, so it is displaced
	}
	edited, err := o.edited(ctx, found, tracked, known)
	if err != nil {
		return err
	}
	var displaced []string
	for _, f := range found {
		if stays[f.Path] {
			continue
		}
		from := o.fromRoot(f.Path)
		if tracked[f.Path] {
			err = move(top, from, o.aside(from, edited[f.Path]))
		} else if f.Kind == listing.EmptyDir {
			err = removeEmpty(base, f.Path)
		} else if r, ok := known[f.Path]; ok && o.unchanged(r, f.Kind) {
			err = base.Remove(f.Path)
		} else {
			displaced = append(displaced, from)
			err = move(top, from, path.Join(checkout.Dir, "displaced", o.Run, from))
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("clearing the outputs of %s: %w", o.Task.Addr(), err)
		}
		o.prune(base, f.Path)
	}
	if len(displaced) > 0 {
		o.Report(fmt.Sprintf("%s: moved %s to %s/displaced/%s: no finished run left it there",
			o.Task.Addr(), some(displaced), checkout.Dir, o.Run))
	}
	return nil
}

// ClearAttempt deletes what a failed attempt wrote, so that the next one begins as the first did: what
// was set aside stays where it is.
func (o *Set) ClearAttempt() error {
	base, err := o.open()
	if base == nil || err != nil {
		return err
	}
	defer base.Close()
	found, special, err := o.search(o.Task.Writes)
	if err != nil && !errors.Is(err, beneath.ErrNoDirectory) {
		return err
	}
	for _, f := range found {
		special = append(special, f.Path)
	}
	for _, p := range special {
		if err := base.RemoveAll(p); err != nil && !errors.Is(err, syscall.EBUSY) {
			return fmt.Errorf("clearing the outputs of a failed attempt of %s: %w", o.Task.Addr(), err)
		}
		o.prune(base, p)
	}
	return nil
}

func some(names []string) string {
	if len(names) <= 3 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:2], ", "), len(names)-2)
}

func (o *Set) unchanged(r listing.Row, kind listing.Kind) bool {
	same, err := o.same(r, kind)
	return err == nil && same
}

// removeEmpty removes an empty directory, unless it is a mount.
func removeEmpty(base *os.Root, rel string) error {
	err := base.Remove(rel)
	if errors.Is(err, syscall.EBUSY) {
		return nil
	}
	return err
}

// prune removes directories that became empty, if they are outputs of the task.
func (o *Set) prune(base *os.Root, rel string) {
	for d := path.Dir(rel); d != "." && (o.matches(d) || startsAt(o.Task.Writes, d)); d = path.Dir(d) {
		if base.Remove(d) != nil {
			return
		}
	}
}

// move moves a file within the checkout. It overwrites nothing.
func move(top *os.Root, from, to string) error {
	if err := top.MkdirAll(path.Dir(to), 0o755); err != nil {
		return err
	}
	for n := 2; ; n++ {
		if _, err := top.Lstat(to); errors.Is(err, fs.ErrNotExist) {
			return rename(top, from, to)
		}
		to = fmt.Sprintf("%s.%d", strings.TrimSuffix(to, fmt.Sprintf(".%d", n-1)), n)
	}
}

// ErrRefused is wrapped by errors about a listing that must not be written to
// the disk.
var ErrRefused = errors.New("refused")

// Check refuses a listing with paths outside the task's writes or links that
// lead out of the repository.
func (o *Set) Check(list listing.List) error {
	nested := o.Task.Project.HasNested()
	for _, r := range list {
		isOutput := o.matches(r.Path) || r.Kind == listing.EmptyDir && startsAt(o.Task.Writes, r.Path)
		if !isOutput || nested && o.otherProject(r.Path) {
			return fmt.Errorf("%w: %q does not match the writes of %s", ErrRefused, r.Path, o.Task.Addr())
		}
	}
	if err := list.CheckLinks(o.Task.Project.Dir); err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return nil
}

// atOnce is how many files are read or written in parallel: more than
// processors, because disks have latency.
var atOnce = 2 * runtime.GOMAXPROCS(0)

// mkdirs creates a directory and those on the way to it, and never goes through
// a link.
func mkdirs(base *os.Root, rel string) error {
	at := ""
	for seg := range strings.SplitSeq(path.Clean(rel), "/") {
		if seg == "." {
			continue
		}
		at = path.Join(at, seg)
		info, err := base.Lstat(at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			if err := base.Mkdir(at, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
				return err
			}
		case err != nil:
			return err
		case !info.IsDir():
			return fmt.Errorf("%w: %s is in the way and is not a directory", ErrRefused, at)
		}
	}
	return nil
}
