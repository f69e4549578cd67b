package git

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
)

// Limits of what is taken from another repository.
const (
	maxRemoteFiles = 1000
	maxRemoteFile  = 1 << 20 // bytes
)

// Remote is a commit of another repository. Nothing of it is checked out.
type Remote struct {
	Commit string
	repo   Repo
	files  []string // regular ones, from its root
	others []string // links and repositories in it
}

// FetchRemote fetches a commit of another repository, by a branch, a tag or its id, and
// keeps it until Close.
func FetchRemote(ctx context.Context, url, rev string) (*Remote, error) {
	for _, word := range []string{url, rev} {
		if word == "" || strings.HasPrefix(word, "-") {
			return nil, fmt.Errorf("%q is neither the address of a repository nor a revision", word)
		}
	}
	dir, err := os.MkdirTemp("", "grayloft-import-")
	if err != nil {
		return nil, err
	}
	r := &Remote{repo: Repo{Dir: dir}}
	if err := r.fetch(ctx, url, rev); err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

func (r *Remote) fetch(ctx context.Context, url, rev string) error {
	steps := [][]string{
		{"init", "--quiet"},
		{
			"-c",
			"transfer.fsckObjects=true",
			"fetch",
			"--quiet",
			"--depth=1",
			"--no-tags",
			"--no-recurse-submodules",
			"--",
			url,
			rev,
		},
	}
	for _, args := range steps {
		if _, err := r.repo.run(ctx, nil, args...); err != nil {
			return err
		}
	}
	commit, err := r.repo.run(ctx, nil, "rev-parse", "--verify", "FETCH_HEAD^{commit}")
	if err != nil {
		return err
	}
	r.Commit = strings.TrimSpace(string(commit))
	out, err := r.repo.run(ctx, nil, "ls-tree", "-r", "-z", r.Commit)
	if err != nil {
		return err
	}
	for line := range strings.SplitSeq(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		about, path, ok := strings.Cut(line, "\t")
		switch {
		case !ok || !fs.ValidPath(path) || slices.Contains(strings.Split(strings.ToLower(path), "/"), ".git"):
		case strings.HasPrefix(about, "100"):
			r.files = append(r.files, path)
		default:
			r.others = append(r.others, path)
		}
	}
	return nil
}

// Close removes what was fetched.
func (r *Remote) Close() { os.RemoveAll(r.repo.Dir) }

// Files returns the texts of the regular files whose path is wanted. Anything else that
// is wanted is an error, and so are too many or too large files.
func (r *Remote) Files(ctx context.Context, want func(path string) bool) (map[string][]byte, error) {
	if i := slices.IndexFunc(r.others, want); i >= 0 {
		return nil, fmt.Errorf("%s is not a regular file there", r.others[i])
	}
	out, err := r.repo.At(ctx, r.Commit, func(path string) bool { return slices.Contains(r.files, path) && want(path) })
	if err != nil {
		return nil, err
	}
	if len(out) > maxRemoteFiles {
		return nil, fmt.Errorf("%d files are wanted there; at most %d are taken", len(out), maxRemoteFiles)
	}
	for path, text := range out {
		if len(text) > maxRemoteFile {
			return nil, fmt.Errorf("%s has %d bytes there; at most %d are taken", path, len(text), maxRemoteFile)
		}
	}
	return out, nil
}
