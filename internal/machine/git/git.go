// Package git asks this machine's git about a checkout: which files exist, what
// changed, the contents of a file at a revision. It uses only git's command
// line, keeps a person's own settings out, and never changes anything.
package git

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Repo is a directory inside a git checkout. All paths are relative to it.
type Repo struct{ Dir string }

// Error is a git command that failed.
type Error struct {
	Args   []string
	Stderr string
	Err    error
}

func (e *Error) Error() string {
	if errors.Is(e.Err, exec.ErrNotFound) {
		return "git is not installed, or not in PATH: install it"
	}
	args := e.Args
	for len(args) > 2 && args[0] == "-c" {
		args = args[2:]
	}
	if e.Stderr == "" {
		return fmt.Sprintf("git %s: %v", args[0], e.Err)
	}
	return fmt.Sprintf("git %s: %s", args[0], e.Stderr)
}

func (e *Error) Unwrap() error { return e.Err }

func (r Repo) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", append([]string{
		"-c", "core.quotePath=false", "-c", "core.excludesFile=", "-c", "core.fsmonitor=false", "-c", "diff.renames=false",
	}, args...)...)
	cmd.Dir = r.Dir
	cmd.Env = append(Environment(r.Dir), "LC_ALL=C", "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0")
	return cmd
}

func (r Repo) run(ctx context.Context, stdin io.Reader, args ...string) ([]byte, error) {
	cmd := r.command(ctx, args...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = stdin, &out, &errs
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return out.Bytes(), &Error{args, strings.TrimSpace(errs.String()), err}
	}
	return out.Bytes(), nil
}

// NoRepositoryError says that a directory is not in a git checkout.
type NoRepositoryError struct{ Dir string }

func (e *NoRepositoryError) Error() string {
	return e.Dir + " is not in a git repository: run `git init` there; Gray Loft asks git which files exist"
}

// Check explains what is wrong if the directory is not in a git checkout.
func (r Repo) Check(ctx context.Context) error {
	_, err := r.run(ctx, nil, "rev-parse", "--git-dir")
	var ge *Error
	if errors.As(err, &ge) && strings.Contains(ge.Stderr, "not a git repository") {
		return &NoRepositoryError{r.Dir}
	}
	return err
}

// Files returns the paths that git tracks, and untracked paths that the
// repository's ignore files do not exclude, below the given paths or
// everywhere. Some may be missing on the disk.
func (r Repo) Files(ctx context.Context, below ...string) ([]string, error) {
	return r.list(
		ctx,
		append([]string{"ls-files", "-z", "--cached", "--others", "--exclude-per-directory=.gitignore", "--"}, literal(below)...),
	)
}

// Tracked returns the paths that git tracks below the given ones.
func (r Repo) Tracked(ctx context.Context, below ...string) ([]string, error) {
	return r.list(ctx, append([]string{"ls-files", "-z", "--cached", "--"}, literal(below)...))
}

// Modified returns those of some tracked files that differ from the index, or that git was told not to
// compare with it.
func (r Repo) Modified(ctx context.Context, among ...string) ([]string, error) {
	list, err := r.list(ctx, append([]string{"ls-files", "-z", "--modified", "--"}, literal(among)...))
	if err != nil {
		return nil, err
	}
	tagged, err := r.list(ctx, append([]string{"ls-files", "-z", "-v", "--cached", "--"}, literal(among)...))
	for _, line := range tagged {
		if tag, name, _ := strings.Cut(line, " "); tag == "S" || tag == strings.ToLower(tag) {
			list = append(list, name)
		}
	}
	return list, err
}

func literal(paths []string) []string {
	out := make([]string, len(paths))
	for i, p := range paths {
		out[i] = ":(literal)" + p
	}
	return out
}

func (r Repo) list(ctx context.Context, args []string) ([]string, error) {
	out, err := r.run(ctx, nil, args...)
	if err != nil {
		if there := r.Check(ctx); there != nil { // only now: it costs a process
			return nil, there
		}
		return nil, err
	}
	return paths(out)
}

func paths(out []byte) ([]string, error) {
	var list []string
	for _, b := range bytes.Split(bytes.TrimSuffix(out, []byte{0}), []byte{0}) {
		p := string(b)
		if p == "" || strings.HasSuffix(p, "/") || p == ".grayloft" || strings.HasPrefix(p, ".grayloft/") {
			continue
		}
		list = append(list, p)
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

// Ignored returns the paths that the ignore files exclude, whether or not git
// tracks them.
func (r Repo) Ignored(ctx context.Context, among []string) ([]string, error) {
	if len(among) == 0 {
		return nil, nil
	}
	out, err := r.run(
		ctx,
		strings.NewReader(strings.Join(among, "\x00")+"\x00"),
		"check-ignore",
		"--no-index",
		"-v",
		"-z",
		"--stdin",
	)
	var ge *Error
	if errors.As(err, &ge) {
		var exit *exec.ExitError
		if errors.As(ge.Err, &exit) && exit.ExitCode() == 1 {
			return nil, nil
		}
	}
	if err != nil {
		if list, ok, inner := r.ignoredInParts(ctx, among); ok {
			return list, inner
		}
		return nil, err
	}
	// Four fields per path: the file with the rule, its line, the rule, the
	// path. A person's own rules, outside the repository, do not count.
	var list, others []string
	fields := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
	for i := 0; i+3 < len(fields); i += 4 {
		switch {
		case path.Base(fields[i]) != ".gitignore":
			others = append(others, fields[i+3])
		case !strings.HasPrefix(fields[i+2], "!"):
			list = append(list, fields[i+3])
		}
	}
	more, err := r.ignoredAllTheSame(ctx, others)
	if err != nil {
		return nil, err
	}
	return paths([]byte(strings.Join(append(list, more...), "\x00")))
}

// ignoredAllTheSame returns the files, among those that a person's own rules
// match first, that the repository's rules exclude as well.
func (r Repo) ignoredAllTheSame(ctx context.Context, among []string) ([]string, error) {
	among = slices.DeleteFunc(among, func(p string) bool {
		info, err := os.Lstat(filepath.Join(r.Dir, filepath.FromSlash(p)))
		return err != nil || info.IsDir() // files in a directory are asked about separately
	})
	if len(among) == 0 {
		return nil, nil
	}
	out, err := r.run(
		ctx,
		nil,
		append(
			[]string{"ls-files", "-z", "--cached", "--others", "--exclude-per-directory=.gitignore", "--"},
			literal(among)...)...)
	if err != nil {
		return nil, err
	}
	counted, err := paths(out)
	return slices.DeleteFunc(among, func(p string) bool { return slices.Contains(counted, p) }), err
}

// MergeBase returns the merge base of HEAD and rev, and whether there is one.
func (r Repo) MergeBase(ctx context.Context, rev string) (string, bool, error) {
	if strings.HasPrefix(rev, "-") {
		return "", false, fmt.Errorf("%q is not a revision", rev)
	}
	out, err := r.run(ctx, nil, "merge-base", rev, "HEAD")
	var ge *Error
	if errors.As(err, &ge) {
		return "", false, nil
	}
	return strings.TrimSpace(string(out)), err == nil, err
}

// Resolve returns the commit that a revision names, or an error that says it
// names none.
func (r Repo) Resolve(ctx context.Context, rev string) (string, error) {
	out, err := r.run(ctx, nil, "rev-parse", "--verify", "--quiet", "--end-of-options", rev+"^{commit}")
	if err != nil {
		return "", fmt.Errorf("git knows no revision %q in this repository", rev)
	}
	return strings.TrimSpace(string(out)), nil
}

// RemoteBranch returns the branch of that name as it was last fetched: from origin, or from the only
// remote that has one. Empty if there is none.
func (r Repo) RemoteBranch(ctx context.Context, name string) string {
	if name == "" || strings.HasPrefix(name, "-") || strings.ContainsAny(name, "*?[\\~^: ") {
		return ""
	}
	out, _ := r.run(ctx, nil, "for-each-ref", "--format=%(refname)", "refs/remotes/*/"+name)
	list := strings.Fields(string(out))
	if of := "refs/remotes/origin/" + name; slices.Contains(list, of) {
		return of
	}
	if len(list) != 1 {
		return ""
	}
	return list[0]
}

// Shallow tells whether the checkout's history is truncated.
func (r Repo) Shallow(ctx context.Context) bool {
	out, err := r.run(ctx, nil, "rev-parse", "--is-shallow-repository")
	return err == nil && strings.TrimSpace(string(out)) == "true"
}

// Sparse tells whether the checkout leaves files of its commit out.
func (r Repo) Sparse(ctx context.Context) bool {
	out, err := r.run(ctx, nil, "config", "--type=bool", "core.sparseCheckout")
	return err == nil && strings.TrimSpace(string(out)) == "true"
}

// ChangedBy returns how many commits after a commit have a text in their
// message, in any case, and the paths that they changed: those of a merge against
// its first parent, and both sides of a rename.
func (r Repo) ChangedBy(ctx context.Context, since, text string) (commits int, changed []string, err error) {
	pattern := []string{"log", "-z", "--fixed-strings", "--regexp-ignore-case", "--grep=" + text, since + "..HEAD"}
	out, err := r.run(ctx, nil, append(pattern, "--format=%H", "--no-patch", "--")...)
	if err != nil {
		return 0, nil, err
	}
	commits = bytes.Count(out, []byte{0})
	if len(out) > 0 && out[len(out)-1] != 0 {
		commits++
	}
	out, err = r.run(ctx, nil, append(pattern, "--format=", "--name-only", "--no-renames", "--no-ext-diff", "--relative",
		"--diff-merges=first-parent", "--")...)
	if err != nil {
		return 0, nil, err
	}
	changed, err = paths(out)
	return commits, changed, err
}

// IsCommitted tells whether git has a file of the checkout as it is.
func (r Repo) IsCommitted(ctx context.Context, path string) (bool, error) {
	tracked, err := r.list(ctx, append([]string{"ls-files", "-z", "--cached", "--"}, literal([]string{path})...))
	if err != nil || len(tracked) == 0 {
		return false, err
	}
	changed, err := r.run(ctx, nil, append([]string{"status", "--porcelain", "-z", "--"}, literal([]string{path})...)...)
	return len(changed) == 0, err
}

// Head returns the commit and branch of the checkout; either is empty if there
// is none (no commit yet, a detached head).
func (r Repo) Head(ctx context.Context) (commit, branch string) {
	var wg sync.WaitGroup
	wg.Go(func() {
		if out, err := r.run(ctx, nil, "rev-parse", "--verify", "--quiet", "HEAD"); err == nil {
			commit = strings.TrimSpace(string(out))
		}
	})
	if out, err := r.run(ctx, nil, "symbolic-ref", "--short", "--quiet", "HEAD"); err == nil {
		branch = strings.TrimSpace(string(out))
	}
	wg.Wait()
	return commit, branch
}

// Top returns the root of the checkout that the directory is in.
func (r Repo) Top(ctx context.Context) (string, error) {
	out, err := r.run(ctx, nil, "rev-parse", "--show-toplevel")
	if err != nil {
		if there := r.Check(ctx); there != nil {
			return "", there
		}
		return "", err
	}
	return strings.TrimSuffix(string(out), "\n"), nil
}

// Branches returns the names of local branches.
func (r Repo) Branches(ctx context.Context) []string {
	out, _ := r.run(ctx, nil, "for-each-ref", "--format=%(refname:short)", "refs/heads")
	return strings.Fields(string(out))
}

// User returns the author name of commits made here, or "".
func (r Repo) User(ctx context.Context) string {
	out, err := r.run(ctx, nil, "config", "user.name")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// At returns the contents, at a commit, of the files whose path is wanted.
func (r Repo) At(ctx context.Context, commit string, want func(path string) bool) (map[string][]byte, error) {
	out, err := r.run(ctx, nil, "ls-tree", "-r", "-z", "--name-only", commit)
	if err != nil {
		return nil, err
	}
	all, err := paths(out)
	if err != nil {
		return nil, err
	}
	var names []string
	var ask strings.Builder
	for _, p := range all {
		if want(p) && !strings.Contains(p, "\n") {
			names = append(names, p)
			fmt.Fprintf(&ask, "%s:./%s\n", commit, p)
		}
	}
	if len(names) == 0 {
		return map[string][]byte{}, nil
	}
	if out, err = r.run(ctx, strings.NewReader(ask.String()), "cat-file", "--batch"); err != nil {
		return nil, err
	}
	return readBatch(bufio.NewReader(bytes.NewReader(out)), names)
}

// Show returns the contents of a file at a commit.
func (r Repo) Show(ctx context.Context, commit, path string) ([]byte, error) {
	return r.run(ctx, nil, "cat-file", "blob", commit+":./"+path)
}

// Ancestor tells whether HEAD descends from a commit or equals it.
func (r Repo) Ancestor(ctx context.Context, commit string) bool {
	_, err := r.run(ctx, nil, "merge-base", "--is-ancestor", commit, "HEAD")
	return err == nil
}

func readBatch(r *bufio.Reader, names []string) (map[string][]byte, error) {
	files := map[string][]byte{}
	for _, name := range names {
		line, err := r.ReadString('\n')
		if err != nil {
			return nil, fmt.Errorf("git cat-file: the answer ends before %s", name)
		}
		f := strings.Fields(line)
		if len(f) != 3 || f[1] != "blob" {
			continue // missing, or not a file
		}
		size, err := strconv.Atoi(f[2])
		if err != nil {
			return nil, fmt.Errorf("git cat-file: %q is not a size", f[2])
		}
		data := make([]byte, size+1)
		if _, err := io.ReadFull(r, data); err != nil {
			return nil, fmt.Errorf("git cat-file: %s is cut off", name)
		}
		files[name] = data[:size]
	}
	return files, nil
}
