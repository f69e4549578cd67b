package checkout

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/files"
)

// Restore writes a listing to the disk; all its blobs must be in the store.
// Files that are already right are left alone; others are written next to their
// place first, so that no reader sees a partial file.
func (o *Outputs) Restore(ctx context.Context, list, last listing.List) error {
	r, err := o.Begin(list)
	if err != nil {
		return err
	}
	defer r.Drop()
	return r.Finish(ctx, last)
}

// Restoration is a listing that is being written to the disk. Its files are written aside
// first.
type Restoration struct {
	o    *Outputs
	list listing.List
	base string
	dirs []string // several, because making files in one directory is serialised by the file system
	next atomic.Int64
	of   map[digest.Digest][]listing.Row

	mu     sync.Mutex
	staged map[string]string // files by path
}

// fewFiles is how many files are written aside into one directory.
const fewFiles = 32

// Begin begins to write a listing to the disk. The restoration must be dropped at the end.
func (o *Outputs) Begin(list listing.List) (*Restoration, error) {
	if err := o.Check(list); err != nil {
		return nil, err
	}
	base, err := o.newStage()
	if err != nil {
		return nil, err
	}
	r := &Restoration{
		o:      o,
		list:   list,
		base:   base,
		dirs:   []string{base},
		staged: map[string]string{},
		of:     map[digest.Digest][]listing.Row{},
	}
	for i := 1; i < atOnce && len(list) > fewFiles; i++ {
		dir := filepath.Join(base, "d"+strconv.Itoa(i))
		if err := os.Mkdir(dir, 0o755); err != nil {
			r.Drop()
			return nil, err
		}
		r.dirs = append(r.dirs, dir)
	}
	for _, row := range list {
		if d, ok := row.Blob(); ok {
			r.of[d] = append(r.of[d], row)
		}
	}
	return r, nil
}

// setMode sets the mode of a new file, if it is another because of its kind or of the
// process's mask: asking takes less than setting.
func setMode(f *os.File, want fs.FileMode) error {
	info, err := f.Stat()
	if err != nil || info.Mode().Perm() == want {
		return err
	}
	return f.Chmod(want)
}

func modeOf(row listing.Row) fs.FileMode {
	if row.Kind == listing.Executable {
		return 0o755
	}
	return 0o644
}

// Arrived writes the files that have these contents, which match the digest: whoever has them
// in memory saves reading them again. A file that cannot be written is left to
// [Restoration.Finish]. It is safe for concurrent use.
func (r *Restoration) Arrived(d digest.Digest, text []byte) {
	for _, row := range r.of[d] {
		if int64(len(text)) == row.Size {
			_ = r.write(row, func(w io.Writer) error {
				_, err := w.Write(text)
				return err
			})
		}
	}
}

// write writes a file aside.
func (r *Restoration) write(row listing.Row, fill func(io.Writer) error) error {
	n := r.next.Add(1)
	f, err := os.OpenFile(filepath.Join(r.dirs[int(n)%len(r.dirs)], strconv.FormatInt(n, 10)), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	written := &counter{w: f}
	err = fill(written)
	if err == nil && written.n != row.Size {
		err = fmt.Errorf("%w: it has %d bytes, but %d were declared", ErrRefused, written.n, row.Size)
	}
	if err == nil {
		err = setMode(f, modeOf(row))
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return fmt.Errorf("restoring %s: %w", r.o.fromRoot(row.Path), err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.staged[row.Path] = f.Name()
	return nil
}

// Finish writes the files that did not arrive, whose blobs must be in the store, and puts all
// of them in their places.
func (r *Restoration) Finish(ctx context.Context, last listing.List) error {
	if err := r.stage(ctx); err != nil {
		return err
	}
	o := r.o
	if err := o.Clear(ctx, append(slices.Clone(last), o.rightNow(r.list)...)); err != nil {
		return err
	}
	if err := r.put(); err != nil {
		return err
	}
	return o.PutBack()
}

// put makes directories and links, and moves staged files to their places.
func (r *Restoration) put() error {
	top, err := os.OpenRoot(r.o.State.Root)
	if err != nil {
		return err
	}
	defer top.Close()
	if err := mkdirs(top, r.o.Task.Project.Dir); err != nil {
		return err
	}
	base, err := files.OpenBeneath(r.o.State.Root, r.o.Task.Project.Dir)
	if err != nil {
		return err
	}
	defer base.Close()
	in := map[string]listing.List{} // files by directory
	for _, row := range r.list {
		dir := path.Dir(row.Path)
		if _, made := in[dir]; !made {
			if err := mkdirs(base, dir); err != nil {
				return fmt.Errorf("restoring %s: %w", r.o.fromRoot(row.Path), err)
			}
			in[dir] = nil
		}
		switch row.Kind {
		case listing.EmptyDir:
			err = base.MkdirAll(row.Path, 0o755)
		case listing.Link:
			err = base.Symlink(filepath.FromSlash(row.Target), row.Path)
		default:
			in[dir] = append(in[dir], row)
		}
		if err != nil {
			return fmt.Errorf("restoring %s: %w", r.o.fromRoot(row.Path), err)
		}
	}
	return r.move(base, in)
}

// move moves staged files to their directories, in several of these at a time.
func (r *Restoration) move(base *os.Root, in map[string]listing.List) error {
	from := map[string]*os.File{}
	for _, dir := range r.dirs {
		f, err := os.Open(dir)
		if err != nil {
			return err
		}
		defer f.Close()
		from[dir] = f
	}
	var g errgroup.Group
	g.SetLimit(atOnce)
	for dir, rows := range in {
		if len(rows) == 0 {
			continue
		}
		g.Go(func() error {
			to, err := base.Open(dir)
			if err != nil {
				return fmt.Errorf("restoring %s: %w", r.o.fromRoot(rows[0].Path), err)
			}
			defer to.Close()
			for _, row := range rows {
				staged := r.staged[row.Path]
				if err := moveInto(from[filepath.Dir(staged)], filepath.Base(staged), to, path.Base(row.Path)); err != nil {
					return fmt.Errorf("restoring %s: %w", r.o.fromRoot(row.Path), err)
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// Drop deletes what is left aside.
func (r *Restoration) Drop() { os.RemoveAll(r.base) }

// stage copies blobs from the store, verified, into new files.
func (r *Restoration) stage(ctx context.Context) error {
	var left listing.List
	for _, row := range r.list {
		if _, ok := r.staged[row.Path]; !ok {
			left = append(left, row)
		}
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, row := range r.o.inOrder(left) {
		d, _ := row.Blob()
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			return r.write(row, func(w io.Writer) error { return r.o.Store.WriteTo(d, w) })
		})
	}
	return g.Wait()
}

// newStage makes a directory for files that are being written, and deletes those that killed
// processes left. It is a new one each time: ext4 takes long to make a file in a directory
// near which many were deleted lately.
func (o *Outputs) newStage() (string, error) {
	all := filepath.Join(o.State.dir, "staged")
	if err := os.MkdirAll(all, 0o755); err != nil {
		return "", err
	}
	old, _ := os.ReadDir(all)
	for _, e := range old {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > 24*time.Hour {
			_ = os.RemoveAll(filepath.Join(all, e.Name())) // otherwise the next one does it
		}
	}
	return os.MkdirTemp(all, "")
}

// inOrder returns the rows with a blob, in the order in which the cache reads them fastest.
func (o *Outputs) inOrder(list listing.List) listing.List {
	type placed struct {
		row     listing.Row
		segment uint64
		at      int64
	}
	all := make([]placed, 0, len(list))
	for _, r := range list {
		if d, ok := r.Blob(); ok {
			segment, at := o.Store.Order(d)
			all = append(all, placed{r, segment, at})
		}
	}
	slices.SortStableFunc(all, func(a, b placed) int {
		return cmp.Or(cmp.Compare(a.segment, b.segment), cmp.Compare(a.at, b.at))
	})
	out := make(listing.List, len(all))
	for i, p := range all {
		out[i] = p.row
	}
	return out
}

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}
