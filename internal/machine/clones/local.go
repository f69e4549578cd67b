package clones

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"grayloft.example/grayloft/internal/machine/git"
)

// Local is the state of a checkout: its commit, and its work tree as one more commit.
type Local struct {
	Commit string // HEAD
	Branch string // empty: HEAD is detached
	State  string // the commit of the work tree; empty: there is nothing that a remote lacks
	Tree   string // of the work tree
	Files  int    // of the work tree that differ from HEAD
	Ahead  int    // commits that no remote has
}

// TooLargeError says that local changes are larger than allowed.
type TooLargeError struct {
	Limit   int64
	Largest string // the largest file that differs
	Bytes   int64  // of it
}

func (e *TooLargeError) Error() string {
	text := fmt.Sprintf("the local changes come to more than %d MB", e.Limit>>20)
	if e.Largest != "" {
		text += fmt.Sprintf("; the largest file is %s (%d MB)", e.Largest, e.Bytes>>20)
	}
	return text + ": ignore what need not be sent in .gitignore, or push commits first"
}

// Collect writes what a checkout has that no remote has, as a pack of git, and describes the
// checkout. Neither its index nor its objects change. Files that the repository's ignore
// files exclude are left out.
func Collect(ctx context.Context, root string, limit int64, to io.Writer) (Local, error) {
	l, err := newCollector(ctx, root)
	if err != nil {
		return Local{}, err
	}
	defer os.RemoveAll(l.dir)
	if err := l.addFiles(ctx); err != nil {
		return Local{}, err
	}
	if err := l.compare(ctx); err != nil || l.state.State == "" {
		return l.state, err
	}
	return l.state, l.pack(ctx, limit, to)
}

// collector works on a copy of a checkout's index, with objects of its own.
type collector struct {
	root  string
	dir   string // its own
	git   command
	state Local
}

func newCollector(ctx context.Context, root string) (*collector, error) {
	plain := command{dir: root}
	l := &collector{root: root}
	var err error
	if l.state.Commit, err = plain.git(ctx, "rev-parse", "--verify", "--quiet", "HEAD^{commit}"); err != nil {
		return nil, errors.New("the repository has no commit yet: make one first")
	}
	l.state.Branch, _ = plain.git(ctx, "symbolic-ref", "--quiet", "--short", "HEAD") // fails if it is detached
	paths, err := plain.git(ctx, "rev-parse", "--path-format=absolute", "--git-path", "index", "--git-path", "objects")
	if err != nil {
		return nil, err
	}
	index, objects, ok := strings.Cut(paths, "\n")
	if !ok {
		return nil, fmt.Errorf("git did not say where its index is: %q", paths)
	}
	if l.dir, err = os.MkdirTemp("", "grayloft-local-"); err != nil {
		return nil, err
	}
	l.git = command{dir: root, env: []string{
		"GIT_INDEX_FILE=" + filepath.Join(l.dir, "index"), "GIT_OBJECT_DIRECTORY=" + filepath.Join(l.dir, "objects"),
		"GIT_ALTERNATE_OBJECT_DIRECTORIES=" + objects,
	}}
	err = os.Mkdir(filepath.Join(l.dir, "objects"), 0o700)
	if text, rerr := os.ReadFile(index); err == nil && !errors.Is(rerr, fs.ErrNotExist) {
		if err = rerr; err == nil {
			err = os.WriteFile(filepath.Join(l.dir, "index"), text, 0o600)
		}
	}
	if err != nil {
		os.RemoveAll(l.dir)
		return nil, err
	}
	return l, nil
}

// addFiles makes the index equal to the work tree.
func (l *collector) addFiles(ctx context.Context) error {
	files, err := git.Repo{Dir: l.root}.Files(ctx)
	if err != nil {
		return err
	}
	add := l.git
	add.stdin = strings.NewReader(strings.Join(files, "\x00"))
	if _, err := add.git(ctx, "update-index", "-z", "--add", "--remove", "--ignore-skip-worktree-entries", "--stdin"); err != nil {
		return err
	}
	l.state.Tree, err = l.git.git(ctx, "write-tree")
	return err
}

// author makes the commit of a work tree depend on nothing but its tree and its parent.
var author = []string{
	"GIT_AUTHOR_NAME=local changes", "GIT_AUTHOR_EMAIL=", "GIT_AUTHOR_DATE=1000000000 +0000",
	"GIT_COMMITTER_NAME=local changes", "GIT_COMMITTER_EMAIL=", "GIT_COMMITTER_DATE=1000000000 +0000",
}

// compare makes the commit of the work tree, if a remote does not have all of it.
func (l *collector) compare(ctx context.Context) error {
	ahead, err := l.git.git(ctx, "rev-list", "--count", "HEAD", "--not", "--remotes")
	if err == nil {
		_, err = fmt.Sscan(ahead, &l.state.Ahead)
	}
	if err != nil {
		return err
	}
	names, err := l.git.git(ctx, "diff-tree", "-r", "--no-renames", "--name-only", "-z", "HEAD", l.state.Tree)
	if err != nil {
		return err
	}
	l.state.Files = strings.Count(names, "\x00")
	if l.state.Files == 0 && l.state.Ahead == 0 {
		return nil
	}
	make := l.git
	make.env = append(make.env[:len(make.env):len(make.env)], author...)
	l.state.State, err = make.git(ctx, "commit-tree", l.state.Tree, "-p", l.state.Commit, "-m", "local changes")
	return err
}

// pack writes the objects that no remote has.
func (l *collector) pack(ctx context.Context, limit int64, to io.Writer) error {
	remote, err := l.git.git(ctx, "for-each-ref", "--format=^%(objectname)", "refs/remotes")
	if err != nil {
		return err
	}
	out := &limited{to: to, left: limit}
	pack := l.git
	pack.stdin, pack.out = strings.NewReader(l.state.State+"\n"+remote+"\n"), out
	_, err = pack.git(ctx, "pack-objects", "--revs", "--stdout", "--thin", "--delta-base-offset", "--quiet")
	if out.isOver {
		return l.tooLarge(ctx, limit)
	}
	return err
}

// limited passes on so many bytes, and refuses the rest.
type limited struct {
	to     io.Writer
	left   int64
	isOver bool
}

func (w *limited) Write(p []byte) (int, error) {
	if int64(len(p)) > w.left {
		w.isOver = true
		return 0, errors.New("too large")
	}
	w.left -= int64(len(p))
	return w.to.Write(p)
}

func (l *collector) tooLarge(ctx context.Context, limit int64) error {
	e := &TooLargeError{Limit: limit}
	names, _ := l.git.git(ctx, "diff-tree", "-r", "--no-renames", "--name-only", "-z", "HEAD", l.state.Tree)
	for name := range strings.SplitSeq(names, "\x00") {
		if info, err := os.Lstat(filepath.Join(l.root, name)); err == nil && info.Mode().IsRegular() && info.Size() > e.Bytes {
			e.Largest, e.Bytes = name, info.Size()
		}
	}
	return e
}

// Apply makes a checkout equal to a packed state: HEAD at its commit, and its work tree. It
// refuses a pack with objects that git forbids, or more than the limits, before it writes
// any file of it.
func Apply(ctx context.Context, dir string, pack io.Reader, l Local, limits Limits) error {
	in := command{dir: dir, stdin: pack, bound: true}
	packed, err := in.git(ctx, "index-pack", "--stdin", "--fix-thin", "--strict", fmt.Sprintf("--max-input-size=%d", limits.Pack))
	if err != nil {
		return fmt.Errorf("the local changes cannot be unpacked here: %w", err)
	}
	if err := limits.check(ctx, dir, strings.TrimSpace(strings.TrimPrefix(packed, "pack")), l.State); err != nil {
		return err
	}
	plain := command{dir: dir, bound: true}
	got, err := plain.git(ctx, "rev-parse", l.State+"^{tree}", l.State+"^1")
	if err != nil || got != l.Tree+"\n"+l.Commit {
		return errors.New("the local changes are not what the request says: their tree or their commit is another one")
	}
	if err := plain.checkOut(ctx, l.Branch, l.State); err != nil {
		return err
	}
	_, err = plain.git(ctx, "reset", "--quiet", l.Commit)
	return err
}

// Limits bound what local changes may become.
type Limits struct {
	Pack    int64 // bytes of the pack
	Bytes   int64 // of its objects, unpacked
	Tree    int64 // bytes of all files that are checked out
	Entries int   // files that are checked out
}

// check refuses a pack that is small only because it is packed.
func (l Limits) check(ctx context.Context, dir, pack, state string) error {
	total := int64(0)
	err := lines(ctx, dir, func(line string) error {
		f := strings.Fields(line)
		if len(f) >= 4 && (f[1] == "blob" || f[1] == "tree" || f[1] == "commit" || f[1] == "tag") {
			var n int64
			if _, err := fmt.Sscan(f[2], &n); err == nil {
				total += n
			}
		}
		if total > l.Bytes {
			return fmt.Errorf("the local changes unpack to more than %d MB, which this runner allows", l.Bytes>>20)
		}
		return nil
	}, "verify-pack", "-v", filepath.Join(".git", "objects", "pack", "pack-"+pack+".idx"))
	if err != nil {
		return err
	}
	// One object may be many files.
	entries, size := 0, int64(0)
	return lines(ctx, dir, func(line string) error {
		if entries++; entries > l.Entries {
			return fmt.Errorf("the local changes have more than %d files, which this runner allows", l.Entries)
		}
		about, _, _ := strings.Cut(line, "\t")
		if f := strings.Fields(about); len(f) == 4 && f[1] == "blob" {
			n, err := strconv.ParseInt(f[3], 10, 64)
			if err != nil {
				return fmt.Errorf("git does not say how large a file of the local changes is: %q", line)
			}
			if size += n; size > l.Tree {
				return fmt.Errorf("with the local changes, the files have more than %d MB, which this runner allows", l.Tree>>20)
			}
		}
		return nil
	}, "ls-tree", "-r", "-l", state)
}

// lines calls each with every line that git prints, until it returns an error.
func lines(ctx context.Context, dir string, each func(string) error, args ...string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	out := &lineWriter{each: each, stop: cancel}
	_, err := command{dir: dir, out: out, bound: true}.git(ctx, args...)
	if out.err != nil {
		return out.err
	}
	return err
}

type lineWriter struct {
	each func(string) error
	stop func()
	rest []byte
	err  error
}

func (w *lineWriter) Write(p []byte) (int, error) {
	w.rest = append(w.rest, p...)
	for {
		line, after, ok := bytes.Cut(w.rest, []byte("\n"))
		if !ok {
			return len(p), nil
		}
		if w.err = w.each(string(line)); w.err != nil {
			w.stop()
			return 0, w.err
		}
		w.rest = after
	}
}
