package outputs

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/files"
)

// Restore writes a listing to the disk; all its blobs must be in the store.
// Files are written aside first, so that no reader sees a partial file.
func (o *Set) Restore(ctx context.Context, list, last listing.List) error {
	r, err := o.Begin(list)
	if err != nil {
		return err
	}
	defer r.Drop()
	return r.Finish(ctx, last)
}

// Restoration is a listing that is being written to the disk. Its files are written aside
// first, in the directories in which they will be.
type Restoration struct {
	o      *Set
	list   listing.List
	base   string         // stands for the project's directory
	staged []bool         // by row
	stays  []status       // by row, of files that are in their places: zero for others
	wrote  []files.Status // by row, of files that are staged

	find  sync.Once
	first map[digest.Digest]int32 // the first row with these contents, and one more
	next  []int32                 // by row, the next one with the same contents, and one more; zero: none
}

// Begin begins to write a listing to the disk. The restoration must be dropped at the end.
func (o *Set) Begin(list listing.List) (*Restoration, error) {
	if err := o.Check(list); err != nil {
		return nil, err
	}
	base, err := o.newStage()
	if err != nil {
		return nil, err
	}
	r := &Restoration{
		o: o, list: list, base: base,
		staged: make([]bool, len(list)), stays: make([]status, len(list)), wrote: make([]files.Status, len(list)),
	}
	if err := r.begin(); err != nil {
		r.Drop()
		return nil, err
	}
	return r, nil
}

// begin makes the directories.
func (r *Restoration) begin() error {
	made, last := map[string]bool{".": true}, "."
	for _, row := range r.list {
		if err := listing.CheckPath(row.Path); err != nil {
			return fmt.Errorf("%w: %w", ErrRefused, err)
		}
		dir := dirOf(row.Path)
		if row.Kind == listing.EmptyDir {
			dir = row.Path
		}
		if dir != last && !made[dir] {
			made[dir], last = true, dir
			if err := mkdirAll(r.aside(dir)); err != nil {
				return fmt.Errorf("restoring %s: %w", r.o.fromRoot(row.Path), err)
			}
		}
	}
	return nil
}

// mkdirAll is [os.MkdirAll] for a directory that most likely is not there, in one that is.
func mkdirAll(dir string) error {
	if os.Mkdir(dir, 0o755) == nil {
		return nil
	}
	return os.MkdirAll(dir, 0o755)
}

// dirOf is [path.Dir] for a path that was checked, in a fraction of its time.
func dirOf(rel string) string {
	if i := strings.LastIndexByte(rel, '/'); i >= 0 {
		return rel[:i]
	}
	return "."
}

// aside is where a file of the project is staged. The path was checked, so there is nothing to clean.
func (r *Restoration) aside(rel string) string {
	return r.base + string(filepath.Separator) + filepath.FromSlash(rel)
}

// index finds the rows of digests.
func (r *Restoration) index() {
	r.first, r.next = make(map[digest.Digest]int32, len(r.list)), make([]int32, len(r.list))
	for i, row := range slices.Backward(r.list) {
		if d, ok := row.Blob(); ok {
			r.next[i] = r.first[d]
			r.first[d] = int32(i) + 1
		}
	}
}

// Arrived writes the files that have these contents, which match the digest: whoever has them
// in memory saves reading them again. A file that cannot be written is left to
// [Restoration.Finish]. It is safe for concurrent use.
func (r *Restoration) Arrived(d digest.Digest, text []byte) {
	r.find.Do(r.index)
	for n := r.first[d]; n > 0; n = r.next[n-1] {
		if i := int(n) - 1; int64(len(text)) == r.list[i].Size {
			_ = r.write(i, func(w io.Writer) error {
				_, err := w.Write(text)
				return err
			})
		}
	}
}

// write writes the file of a row aside.
func (r *Restoration) write(i int, fill func(io.Writer) error) error {
	row := r.list[i]
	f, err := create(r.aside(row.Path), row.Kind.Mode())
	if err != nil {
		return fmt.Errorf("restoring %s: %w", r.o.fromRoot(row.Path), err)
	}
	written := &counter{w: f}
	err = fill(written)
	if err == nil && written.n != row.Size {
		err = fmt.Errorf("%w: it has %d bytes, but %d were declared", ErrRefused, written.n, row.Size)
	}
	if err == nil {
		r.wrote[i], err = f.finish(row.Kind.Mode())
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		_ = os.Remove(r.aside(row.Path)) // it can be written again
		return fmt.Errorf("restoring %s: %w", r.o.fromRoot(row.Path), err)
	}
	r.staged[i] = true
	return nil
}

// Finish writes the files that did not arrive, whose blobs must be in the store, and puts all
// of them in their places. Files that are there already stay.
func (r *Restoration) Finish(ctx context.Context, last listing.List) error {
	right, stays, err := r.compare()
	if err != nil {
		return err
	}
	if err := r.stage(ctx); err != nil {
		return err
	}
	if err := r.o.clear(ctx, append(slices.Clone(last), right...), stays); err != nil {
		return err
	}
	staged := time.Now() // until then, nobody else could write
	var noting sync.WaitGroup
	noting.Go(func() { r.o.Files.Memory.Note(staged, r.notes()...) }) // one that is not put has another status
	err = r.put()
	noting.Wait()
	if err != nil {
		return err
	}
	if err := r.touch(); err != nil {
		return err
	}
	return r.o.PutBack()
}

// notes are the files that were written. One that was moved by itself has another status now, and
// is read again.
func (r *Restoration) notes() []files.Noted {
	list := make([]files.Noted, 0, len(r.list))
	below := "" // the paths were checked: joining them one by one would clean each again
	if dir := r.o.Task.Project.Dir; dir != "." {
		below = dir + "/"
	}
	for i, row := range r.list {
		if r.staged[i] {
			list = append(list, files.Noted{Path: below + row.Path, Status: r.wrote[i], Digest: row.Digest})
		}
	}
	return list
}

// Drop deletes what is left aside.
func (r *Restoration) Drop() { os.RemoveAll(r.base) }

// stage copies blobs from the store, verified, into new files, and makes the links.
func (r *Restoration) stage(ctx context.Context) error {
	dirs := r.inOrder()
	if err := inParallel(len(dirs), func(i int) error {
		from := r.o.Store.Reader()
		defer from.Release()
		for _, row := range dirs[i] {
			if err := ctx.Err(); err != nil {
				return err
			}
			d, _ := r.list[row].Blob()
			if err := r.write(row, func(w io.Writer) error { return from.WriteTo(d, w) }); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	for _, row := range r.list {
		if row.Kind == listing.Link {
			if err := os.Symlink(filepath.FromSlash(row.Target), r.aside(row.Path)); err != nil {
				return fmt.Errorf("restoring %s: %w", r.o.fromRoot(row.Path), err)
			}
		}
	}
	return nil
}

// inParallel calls do with the numbers below n, several at a time, until one call fails.
func inParallel(n int, do func(i int) error) error {
	var next atomic.Int64
	g, ctx := errgroup.WithContext(context.Background())
	for range min(n, atOnce) {
		g.Go(func() error {
			for i := next.Add(1) - 1; i < int64(n) && ctx.Err() == nil; i = next.Add(1) - 1 {
				if err := do(int(i)); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// newStage makes a directory for files that are being written, and deletes those that killed
// processes left. It is a new one each time: ext4 without a journal takes long to make a file in a
// directory near which many were deleted lately.
func (o *Set) newStage() (string, error) {
	all := o.State.StagedDir()
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

// together is how many files of a directory are written one after the other.
const together = 250

// inOrder returns the rows whose files are still to be written, in the order in which the cache
// reads them fastest, and those of a directory together: several writers in one directory wait
// for each other, which takes longer than the writing.
func (r *Restoration) inOrder() (out [][]int) {
	type placed struct {
		segment uint64
		at      int64
		row     int
	}
	var all []placed
	for i, row := range r.list {
		if d, ok := row.Blob(); ok && !r.staged[i] && r.stays[i] == (status{}) {
			segment, at := r.o.Store.Order(d)
			all = append(all, placed{segment, at, i})
		}
	}
	slices.SortFunc(all, func(a, b placed) int {
		return cmp.Or(cmp.Compare(a.segment, b.segment), cmp.Compare(a.at, b.at), cmp.Compare(a.row, b.row))
	})
	last := map[string]int{} // of a directory, in out
	for _, p := range all {
		dir := dirOf(r.list[p.row].Path)
		i, ok := last[dir]
		if !ok || len(out[i]) == together {
			i = len(out)
			out, last[dir] = append(out, nil), i
		}
		out[i] = append(out[i], p.row)
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
