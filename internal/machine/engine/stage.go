package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/isolate"
	"grayloft.example/grayloft/internal/machine/process"
)

// stage is where a sealed task runs: a directory with a tree of the files that
// it may read, a home and a directory for temporary files.
type stage struct {
	r       *run
	task    *graph.Task
	seal    isolate.Stage
	able    isolate.Ability
	reads   listing.List // from the root, with the digests that the key counts
	scratch string       // where what is kept between runs lies meanwhile
}

// errMoved is for a file that changed between being looked at and being staged.
var errMoved = errors.New("changed while it was copied")

// newStage describes a stage for a task that reads the given files. Moving
// keeps it from standing at the constant path.
func (r *run) newStage(t *graph.Task, reads listing.List, name string, moving bool) *stage {
	dir := filepath.Join(r.State.SealedDir(r.opt.Run), name)
	st := &stage{
		r: r, task: t, reads: reads, able: r.ability(),
		scratch: filepath.Join(r.State.Root, checkout.Dir, "scratch", digest.Of([]byte(t.Addr())).String()[:32]),
		seal:    isolate.Stage{Dir: dir, Work: filepath.FromSlash(t.Project.Dir), Network: t.Network, Moving: moving},
	}
	home, _ := lookupEnv(r.Env, "HOME")
	below := func(d string) string { // a path, or one below the person's home
		if rel, ok := strings.CutPrefix(d, "home:"); ok {
			return filepath.Join(home, filepath.FromSlash(rel))
		}
		return d
	}
	for _, p := range t.Decl.Probes.Items {
		for _, d := range r.Graph.Repo.Probes[p.Text].Dirs {
			st.seal.Readable = append(st.seal.Readable, real(below(d)))
		}
	}
	for _, d := range t.HomeScratch {
		st.seal.Writable = append(st.seal.Writable, real(filepath.Join(home, filepath.FromSlash(d))))
	}
	return st
}

// real returns a path with its links followed, as far as it is there.
func real(p string) string {
	if to, err := filepath.EvalSymlinks(p); err == nil {
		return to
	}
	return p
}

// ability says what holds sealed tasks on this machine.
func (r *run) ability() isolate.Ability {
	dir := r.State.SealedDir(r.opt.Run)
	_ = os.MkdirAll(dir, 0o755) // without it, nothing can be tried, and that is said
	return isolate.Able(dir)
}

func (st *stage) tree() string { return filepath.Join(st.seal.Dir, isolate.TreeDir) }

// fill makes the stage anew.
func (st *stage) fill(ctx context.Context) error {
	if err := os.RemoveAll(st.seal.Dir); err != nil {
		return err
	}
	for _, d := range []string{filepath.Join(isolate.TreeDir, st.seal.Work), isolate.HomeDir, isolate.TempDir} {
		if err := os.MkdirAll(filepath.Join(st.seal.Dir, d), 0o755); err != nil {
			return err
		}
	}
	if err := st.fillReads(ctx); err != nil {
		return err
	}
	for _, u := range st.task.KeyDependencies() {
		if err := st.fillOutputs(u); err != nil {
			return err
		}
	}
	if err := st.scratchIn(); err != nil {
		return err
	}
	return st.fillHome()
}

// full returns where a path, from the root, is in the tree, having made the
// directories on the way.
func (st *stage) full(name string) (string, error) {
	to := filepath.Join(st.tree(), filepath.FromSlash(name))
	return to, os.MkdirAll(filepath.Dir(to), 0o755)
}

func (st *stage) fillReads(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, row := range st.reads {
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			to, err := st.full(row.Path)
			if err != nil {
				return err
			}
			if row.Kind == listing.Link {
				return os.Symlink(filepath.FromSlash(row.Target), to)
			}
			return copyAs(filepath.Join(st.r.State.Root, filepath.FromSlash(row.Path)), to, row)
		})
	}
	return g.Wait()
}

// copyAs copies a file, and holds the copy to its row.
func copyAs(from, to string, row listing.Row) error {
	in, err := os.Open(from)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s %w", row.Path, errMoved)
	}
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode(row))
	if err != nil {
		return err
	}
	defer out.Close()
	h := digest.New()
	if _, err := io.Copy(io.MultiWriter(out, h), in); err != nil {
		return err
	}
	if digest.From(h) != row.Digest {
		return fmt.Errorf("%s %w", row.Path, errMoved)
	}
	return out.Close()
}

func mode(row listing.Row) fs.FileMode {
	if row.Kind == listing.Executable {
		return 0o755
	}
	return 0o644
}

// fillOutputs puts what a task before made into the tree, from the cache.
func (st *stage) fillOutputs(u *graph.Task) error {
	n := st.r.of[u]
	n.place.mu.Lock()
	list := n.place.list
	n.place.mu.Unlock()
	for _, row := range list {
		to, err := st.full(path.Join(u.Project.Dir, row.Path))
		if err != nil {
			return err
		}
		switch row.Kind {
		case listing.EmptyDir:
			err = os.MkdirAll(to, 0o755)
		case listing.Link:
			err = os.Symlink(filepath.FromSlash(row.Target), to)
		default:
			var f *os.File
			if f, err = os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode(row)); err == nil {
				err = errors.Join(st.r.Store.WriteTo(row.Digest, f), f.Close())
			}
		}
		if err != nil {
			return fmt.Errorf("staging what %s made: %w", u.Addr(), err)
		}
	}
	return nil
}

// fillHome makes what is kept below the person's home reachable in the task's.
func (st *stage) fillHome() error {
	for i, d := range st.task.HomeScratch {
		real := st.seal.Writable[i]
		if err := os.MkdirAll(real, 0o755); err != nil {
			return err
		}
		link := filepath.Join(st.seal.Dir, isolate.HomeDir, filepath.FromSlash(d))
		if err := os.MkdirAll(filepath.Dir(link), 0o755); err != nil {
			return err
		}
		if err := os.Symlink(real, link); err != nil {
			return err
		}
	}
	return nil
}

// scratchIn moves what earlier runs left as scratch into the tree, and
// scratchOut takes it out again.
func (st *stage) scratchIn() error {
	if len(st.task.Scratch) == 0 {
		return nil
	}
	return moveFiles(st.scratch, filepath.Join(st.tree(), st.seal.Work), func(string) bool { return true })
}

func (st *stage) scratchOut() error {
	if len(st.task.Scratch) == 0 {
		return nil
	}
	return moveFiles(filepath.Join(st.tree(), st.seal.Work), st.scratch, func(rel string) bool {
		for _, p := range st.task.Scratch {
			if p.Match(rel) {
				return true
			}
		}
		return false
	})
}

func moveFiles(from, to string, wanted func(rel string) bool) error {
	return filepath.WalkDir(from, func(full string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(from, full)
		if err != nil || !wanted(filepath.ToSlash(rel)) {
			return err
		}
		dest := filepath.Join(to, rel)
		if err := os.MkdirAll(filepath.Dir(dest), 0o755); err != nil {
			return err
		}
		return os.Rename(full, dest)
	})
}

// dress makes a command run in the stage.
func (st *stage) dress(c *process.Command) {
	at := func(d string) string {
		if runtime.GOOS != "linux" {
			return filepath.Join(st.seal.Dir, d)
		}
		return st.able.At(st.seal, d)
	}
	c.Env = append(c.Env, "HOME="+at(isolate.HomeDir), "TMPDIR="+at(isolate.TempDir))
	c.Dir = filepath.Join(st.tree(), st.seal.Work)
	if runtime.GOOS != "linux" {
		return
	}
	c.Wrap = func(cmd *exec.Cmd) (began, ended func() error, err error) {
		began, err = isolate.Wrap(cmd, st.seal, st.able)
		return began, func() error { return nil }, err
	}
}

// remove takes the stage away. What a task made unwritable is made writable
// for that.
func (st *stage) remove() {
	if os.RemoveAll(st.seal.Dir) == nil {
		return
	}
	_ = filepath.WalkDir(st.seal.Dir, func(full string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			_ = os.Chmod(full, 0o755)
		}
		return nil
	})
	if err := os.RemoveAll(st.seal.Dir); err != nil {
		st.r.Observer.Warn("removing a stage: " + err.Error())
	}
}

// haveUpstream makes sure that what a sealed task sees of tasks before it is in
// this machine's cache. Gone is one whose outputs are nowhere to be had.
func (r *run) haveUpstream(ctx context.Context, t *graph.Task) (gone *node, err error) {
	for _, u := range t.KeyDependencies() {
		n := r.of[u]
		n.place.mu.Lock()
		list := n.place.list
		n.place.mu.Unlock()
		if _, err := r.have(ctx, blobsOf(list)); err != nil {
			if ctx.Err() != nil {
				return nil, err
			}
			return n, nil
		}
	}
	return nil, nil
}
