package clones

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
)

// Mirror is a bare copy of a repository with its branches and tags.
type Mirror struct {
	Dir  string
	From string // the address of the repository, for git
}

// Fetch makes the mirror equal to the repository; the first time, it makes the mirror.
func (m Mirror) Fetch(ctx context.Context) error {
	if strings.HasPrefix(m.From, "-") {
		return fmt.Errorf("%q is not the address of a repository", m.From)
	}
	if _, err := os.Stat(filepath.Join(m.Dir, "HEAD")); errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(m.Dir, 0o755); err != nil {
			return err
		}
		if _, err := (command{dir: m.Dir}).git(ctx, "init", "--quiet", "--bare", "--template=", "."); err != nil {
			return err
		}
	}
	g := command{dir: m.Dir}
	if _, err := g.git(ctx, "fetch", "--quiet", "--prune", "--force", "--no-write-fetch-head", "--no-tags", "--", m.From,
		"+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"); err != nil {
		return err
	}
	out, err := g.git(ctx, "ls-remote", "--symref", "--", m.From, "HEAD")
	if err != nil {
		return err
	}
	if head, _, ok := strings.Cut(strings.TrimPrefix(out, "ref: "), "\t"); ok && strings.HasPrefix(head, "refs/heads/") {
		_, err = g.git(ctx, "symbolic-ref", "HEAD", head)
	}
	return err
}

// Resolve returns the commit of a request: the given one, or the newest of a branch.
func (m Mirror) Resolve(ctx context.Context, commit, branch string) (string, error) {
	g := command{dir: m.Dir}
	if commit != "" {
		if _, err := g.git(ctx, "cat-file", "-e", commit+"^{commit}"); err != nil {
			return "", fmt.Errorf("commit %.12s is not in %s: push it first", commit, m.address())
		}
		return commit, nil
	}
	out, err := g.git(ctx, "rev-parse", "--verify", "--quiet", "refs/heads/"+branch+"^{commit}")
	if err != nil {
		return "", fmt.Errorf("branch %s is not in %s", branch, m.address())
	}
	return out, nil
}

// address returns where the repository is, without credentials.
func (m Mirror) address() string {
	if u, err := url.Parse(m.From); err == nil && u.User != nil {
		u.User = nil
		return u.String()
	}
	return m.From
}

// BranchWith returns the first branch that is wanted and contains a commit; empty: none.
func (m Mirror) BranchWith(ctx context.Context, commit string, wanted func(branch string) bool) (string, error) {
	out, err := command{dir: m.Dir}.git(ctx, "for-each-ref", "--format=%(refname:lstrip=2)", "--contains", commit, "refs/heads")
	for name := range strings.SplitSeq(out, "\n") {
		if err == nil && wanted(name) {
			return name, nil
		}
	}
	return "", err
}

// File returns the text of a file of the default branch.
func (m Mirror) File(ctx context.Context, name string) (string, error) {
	return command{dir: m.Dir}.git(ctx, "cat-file", "blob", "HEAD:"+name)
}

// Objects is the directory that checkouts of the mirror read from.
func (m Mirror) Objects() string { return filepath.Join(m.Dir, "objects") }

// CheckOut makes a checkout of a commit in a new directory. It borrows the mirror's objects,
// and shares nothing else with it: what is done in the checkout does not reach the mirror.
func (m Mirror) CheckOut(ctx context.Context, dir, commit, branch string) error {
	if _, err := (command{}).git(ctx, "clone", "--quiet", "--shared", "--no-checkout", "--template=", "--", m.Dir, dir); err != nil {
		return err
	}
	if _, err := (command{dir: dir}).git(ctx, "remote", "set-url", "origin", m.address()); err != nil {
		return err
	}
	if commit == "" {
		return nil
	}
	return command{dir: dir}.checkOut(ctx, branch, commit)
}

// checkOut writes the files of a commit, on a branch if there is one.
func (c command) checkOut(ctx context.Context, branch, commit string) error {
	args := []string{"checkout", "--quiet", "--force", "--no-track", "-B", branch, commit}
	if branch == "" {
		args = []string{"checkout", "--quiet", "--force", "--detach", commit}
	}
	_, err := c.git(ctx, args...)
	return err
}
