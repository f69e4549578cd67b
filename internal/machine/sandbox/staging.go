package sandbox

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

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/beneath"
	"grayloft.example/grayloft/internal/machine/environment"
	"grayloft.example/grayloft/internal/machine/process"
)

// Upstream is a dependency whose outputs a task sees.
type Upstream struct {
	Task *graph.Task
	List listing.List
}

// Staging prepares the directory in which a sealed task runs: a tree of the
// files that it may read, a home and a directory for temporary files.
type Staging struct {
	Root     string       // of the repository
	Scratch  string       // where files kept between runs are stored
	Reads    listing.List // from the root, with the digests that are part of the key
	Upstream []Upstream
	Blobs    Blobs
	Ability  Ability
	task     *graph.Task
	stage    Stage
	private  error // a directory of the home that the person did not allow
}

// Blobs is the store that outputs of dependencies come from.
type Blobs interface {
	WriteTo(d digest.Digest, w io.Writer) error
}

// ErrChanged is wrapped by errors about a file that changed between being looked
// at and being staged.
var ErrChanged = errors.New("changed while it was copied")

// NewStaging returns the staging of a task in a directory. With moving, the tree
// is never mounted at the constant path.
func NewStaging(t *graph.Task, dir string, env environment.Environment, moving bool) *Staging {
	st := &Staging{task: t, stage: Stage{Dir: dir, Work: filepath.FromSlash(t.Project.Dir), Network: t.Network, Moving: moving}}
	home, _ := env.Lookup("HOME")
	allowed, _ := env.Lookup(HomeDirsVar)
	toolDirs(t, home, func(d string) {
		st.allow("a probe", home, d, allowed)
		st.stage.Readable = append(st.stage.Readable, resolveLinks(d))
	}, func(string) {})
	for _, d := range t.HomeScratch {
		st.allow("its scratch", home, filepath.Join(home, filepath.FromSlash(d)), allowed)
		st.stage.Writable = append(st.stage.Writable, resolveLinks(filepath.Join(home, filepath.FromSlash(d))))
	}
	return st
}

// HomeDirsVar is the variable by which a person allows more directories of the home to sealed
// tasks: relative to it, separated like a PATH.
const HomeDirsVar = "GRAYLOFT_HOME_DIRS"

// allow notes a directory that the declarations name and that the person did not allow.
func (st *Staging) allow(who, home, dir, allowed string) {
	rel, err := filepath.Rel(home, dir)
	if home == "" || err != nil || st.private != nil {
		return
	}
	if up, err := filepath.Rel(dir, home); err == nil && up != "." && !strings.HasPrefix(up, "..") {
		st.private = fmt.Errorf("%s names %s, which contains your home directory: name a directory of a toolchain", who, dir)
		return
	}
	if strings.HasPrefix(rel, "..") {
		return
	}
	if rel = filepath.ToSlash(rel); !decl.IsToolHome(rel, filepath.SplitList(filepath.ToSlash(allowed))...) {
		st.private = fmt.Errorf("%s names %s in your home directory, where private files may be: if sealed tasks may have it, set %s=%s",
			who, rel, HomeDirsVar, rel)
	}
}

// resolveLinks returns a path without links, or unchanged if it does not exist.
func resolveLinks(p string) string {
	if to, err := filepath.EvalSymlinks(p); err == nil {
		return to
	}
	return p
}

// Tree returns the staged tree, which mirrors the repository.
func (st *Staging) Tree() string { return filepath.Join(st.stage.Dir, TreeDir) }

// HasConstantPath tells whether the task sees its tree at the same path on every
// machine.
func (st *Staging) HasConstantPath() bool {
	return runtime.GOOS == "linux" && st.Ability.Place && !st.stage.Moving
}

// Unenforced explains which restrictions this machine cannot enforce for the
// task; "" if it enforces all.
func (st *Staging) Unenforced() string {
	missing := st.Ability.Lacks(st.stage.Network)
	if len(missing) == 0 {
		return ""
	}
	return fmt.Sprintf("this machine cannot keep a sealed task from %s (%s)", strings.Join(missing, ", nor from "), st.Ability.Why)
}

// Begin creates the staging before an attempt, from nothing.
func (st *Staging) Begin(ctx context.Context) error {
	if st.private != nil {
		return st.private
	}
	if err := os.RemoveAll(st.stage.Dir); err != nil {
		return err
	}
	for _, d := range []string{filepath.Join(TreeDir, st.stage.Work), HomeDir, TempDir} {
		if err := os.MkdirAll(filepath.Join(st.stage.Dir, d), 0o755); err != nil {
			return err
		}
	}
	if err := st.stageReads(ctx); err != nil {
		return err
	}
	for _, u := range st.Upstream {
		if err := st.stageOutputs(u); err != nil {
			return err
		}
	}
	if err := st.moveScratchIn(); err != nil {
		return err
	}
	if err := st.mirrorTools(); err != nil {
		return err
	}
	return st.linkHome()
}

// End moves scratch out of the tree after an attempt.
func (st *Staging) End() error {
	if len(st.task.Scratch) == 0 {
		return nil
	}
	return st.moveFiles(st.work(), st.Scratch, func(rel string) bool {
		for _, p := range st.task.Scratch {
			if p.Match(rel) {
				return true
			}
		}
		return false
	})
}

// place returns the path in the tree for a path from the root, and creates the
// directories on the way.
func (st *Staging) place(name string) (string, error) {
	to := filepath.Join(st.Tree(), filepath.FromSlash(name))
	return to, os.MkdirAll(filepath.Dir(to), 0o755)
}

func (st *Staging) stageReads(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, row := range st.Reads {
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			to, err := st.place(row.Path)
			if err != nil {
				return err
			}
			if row.Kind == listing.Link {
				return os.Symlink(filepath.FromSlash(row.Target), to)
			}
			return copyVerified(filepath.Join(st.Root, filepath.FromSlash(row.Path)), to, row)
		})
	}
	return g.Wait()
}

// copyVerified copies a file, and compares the copy with its row.
func copyVerified(from, to string, row listing.Row) error {
	in, err := os.Open(from)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s %w", row.Path, ErrChanged)
	}
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, row.Kind.Mode())
	if err != nil {
		return err
	}
	defer out.Close()
	h := digest.New()
	if _, err := io.Copy(io.MultiWriter(out, h), in); err != nil {
		return err
	}
	if digest.From(h) != row.Digest {
		return fmt.Errorf("%s %w", row.Path, ErrChanged)
	}
	return out.Close()
}

// stageOutputs writes the outputs of a dependency into the tree.
func (st *Staging) stageOutputs(u Upstream) error {
	for _, row := range u.List {
		name := path.Join(u.Task.Project.Dir, row.Path)
		to, err := st.place(name)
		if err == nil {
			err = st.stageOutput(to, row)
		}
		if err != nil && row.Kind.IsFile() && st.fromCheckout(name, to, row) {
			err = nil
		}
		if err != nil {
			return fmt.Errorf("staging the outputs of %s: %w", u.Task.Addr(), err)
		}
	}
	return nil
}

// fromCheckout stages an output that the cache has lost, if the checkout has it.
func (st *Staging) fromCheckout(name, to string, row listing.Row) bool {
	if err := os.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false
	}
	return copyVerified(filepath.Join(st.Root, filepath.FromSlash(name)), to, row) == nil
}

func (st *Staging) stageOutput(to string, row listing.Row) error {
	switch row.Kind {
	case listing.EmptyDir:
		return os.MkdirAll(to, 0o755)
	case listing.Link:
		return os.Symlink(filepath.FromSlash(row.Target), to)
	}
	f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, row.Kind.Mode())
	if err != nil {
		return err
	}
	return errors.Join(st.Blobs.WriteTo(row.Digest, f), f.Close())
}

// linkHome links scratch below the person's home into the task's home.
func (st *Staging) linkHome() error {
	for i, d := range st.task.HomeScratch {
		target := st.stage.Writable[i]
		if err := os.MkdirAll(target, 0o755); err != nil {
			return err
		}
		link := filepath.Join(st.stage.Dir, HomeDir, filepath.FromSlash(d))
		if err := os.MkdirAll(filepath.Dir(link), 0o755); err != nil {
			return err
		}
		if err := os.Symlink(target, link); err != nil {
			return err
		}
	}
	return nil
}

// moveScratchIn moves the scratch of earlier runs into the tree.
func (st *Staging) moveScratchIn() error {
	if len(st.task.Scratch) == 0 {
		return nil
	}
	return st.moveFiles(st.Scratch, st.work(), func(string) bool { return true })
}

// work is the directory in which the task runs.
func (st *Staging) work() string { return filepath.Join(st.Tree(), st.stage.Work) }

// moveFiles moves files and links from one directory below the repository's root
// to another. Neither end follows a link: the task may have put one there.
func (st *Staging) moveFiles(from, to string, wanted func(rel string) bool) error {
	top, err := os.OpenRoot(st.Root)
	if err != nil {
		return err
	}
	defer top.Close()
	from, ferr := filepath.Rel(st.Root, from)
	to, terr := filepath.Rel(st.Root, to)
	if err := errors.Join(ferr, terr); err != nil {
		return err
	}
	source, err := beneath.OpenRoot(st.Root, filepath.ToSlash(from))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer source.Close()
	if err := top.MkdirAll(to, 0o755); err != nil {
		return err
	}
	target, err := beneath.OpenRoot(st.Root, filepath.ToSlash(to))
	if err != nil {
		return err
	}
	defer target.Close()
	return fs.WalkDir(source.FS(), ".", func(rel string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !wanted(rel) {
			return err
		}
		if err := target.MkdirAll(path.Dir(rel), 0o755); err != nil {
			return err
		}
		return top.Rename(filepath.Join(from, filepath.FromSlash(rel)), filepath.Join(to, filepath.FromSlash(rel)))
	})
}

// Dress makes a command run in the staging.
func (st *Staging) Dress(c *process.Command) {
	at := func(d string) string {
		if runtime.GOOS != "linux" {
			return filepath.Join(st.stage.Dir, d)
		}
		return st.Ability.At(st.stage, d)
	}
	c.Env = append(c.Env, "HOME="+at(HomeDir), "TMPDIR="+at(TempDir))
	c.Dir = filepath.Join(st.Tree(), st.stage.Work)
	if runtime.GOOS != "linux" {
		return
	}
	c.Wrap = func(cmd *exec.Cmd) (began func() error, ended func(*process.Result) error, err error) {
		return Wrap(cmd, st.stage, st.Ability)
	}
}

// Hint explains a probable cause of a failure that is typical of sealed tasks.
func (st *Staging) Hint(ended process.Result) string {
	if ended.Exit != 126 && ended.Exit != 127 {
		return ""
	}
	return "; a sealed task finds programs only in the system's directories and in the dirs of its probes"
}

// Remove deletes the staging. Directories that the task made unwritable are made
// writable first.
func (st *Staging) Remove() error {
	if os.RemoveAll(st.stage.Dir) == nil {
		return nil
	}
	_ = filepath.WalkDir(st.stage.Dir, func(full string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			_ = os.Chmod(full, 0o755)
		}
		return nil
	})
	return os.RemoveAll(st.stage.Dir)
}
