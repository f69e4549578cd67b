// Package changes finds which tasks are touched by what changed since a base:
// git, or the caller, says which files changed; core/change says what they
// touch.
package changes

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/change"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/git"
)

// LastGood as a revision is the newest commit of this branch whose run on the
// trusted shelf passed.
const LastGood = "last-good"

// Question says what to measure and against what.
type Question struct {
	Since string       // a revision; empty: the repository's own, else HEAD
	Paths []string     // the changed files, from the root; nil: ask git
	Graph *graph.Graph // the current declarations
	Modes []string     // the settings that were chosen
	Sets  []string
	// Changed returns the paths that differ from a commit; nil: git is asked about all files.
	Changed func(ctx context.Context, commit string) ([]string, error)
	// LastGood returns the candidates for [LastGood], the newest first.
	LastGood func(ctx context.Context, branch string) ([]string, error)
}

// Answer says which tasks are touched.
type Answer struct {
	Touched []change.Touch
	Base    string // the revision that was compared with
	Warning string // why all tasks count as touched; empty if the base was found
}

// SinceError says that the revision that was asked for does not exist.
type SinceError struct{ Err error }

func (e *SinceError) Error() string { return fmt.Sprintf("grayloft: --since: %v", e.Err) }

// Find answers a question about a checkout. If the base cannot be determined,
// all tasks count as touched: that is never an error. Errors are a
// [*SinceError], or come from git.
func Find(ctx context.Context, repo git.Repo, q Question) (Answer, error) {
	a := Answer{Base: firstOf(q.Since, q.Graph.Repo.Since, "HEAD")}
	base, missing, err := findBase(ctx, repo, q, a.Base)
	if err != nil {
		return a, err
	}
	paths := q.Paths
	if paths == nil {
		if base == "" {
			a.Touched, a.Warning = change.TouchAll(q.Graph), missing+", so everything counts as changed"+remedy(a.Base, missing)
			return a, nil
		}
		if paths, err = q.changed(ctx, repo, base); err != nil {
			return a, err
		}
	}
	if paths, err = repo.Expanded(ctx, paths); err != nil {
		return a, err
	}
	var old *change.Base
	var moved []string
	if base != "" && slices.ContainsFunc(paths, func(p string) bool { return change.HasDeclarations(q.Graph, p) }) {
		if old, err = baseAt(ctx, repo, q, base); err != nil {
			a.Touched = change.TouchAll(q.Graph)
			first, _, _ := strings.Cut(err.Error(), "\n")
			a.Warning = fmt.Sprintf("the declarations at %s cannot be read, so everything counts as changed: %s", a.Base, first)
			return a, nil
		}
		if moved, err = filesIn(ctx, repo, old.Moved(q.Graph), paths); err != nil {
			return a, err
		}
		if len(moved) > mostMoved {
			a.Touched = change.TouchAll(q.Graph)
			a.Warning = fmt.Sprintf("%d files are in another project than at %s, so everything counts as changed", len(moved), a.Base)
			return a, nil
		}
	}
	a.Touched = change.Touched(q.Graph, old, paths, moved)
	return a, nil
}

// mostMoved is the largest number of files in another project than before of which each is looked at.
const mostMoved = 500

// filesIn returns the files below some directories that git tracks, and those of them that changed, of
// which some may be gone.
func filesIn(ctx context.Context, repo git.Repo, dirs, changed []string) ([]string, error) {
	if len(dirs) == 0 {
		return nil, nil
	}
	files, err := repo.Tracked(ctx, dirs...)
	for _, f := range changed {
		if slices.ContainsFunc(dirs, func(d string) bool { return d == "." || strings.HasPrefix(f, d+"/") }) {
			files = append(files, f)
		}
	}
	slices.Sort(files)
	return slices.Compact(files), err
}

func (q Question) changed(ctx context.Context, repo git.Repo, base string) ([]string, error) {
	if q.Changed == nil {
		return repo.Changes(ctx, base)
	}
	return q.Changed(ctx, base)
}

// FindCommits answers which tasks are touched by commits since the base whose
// message contains a text, and how many commits there are. Unlike [Find], it
// needs the base: without one it is an error.
func FindCommits(ctx context.Context, repo git.Repo, q Question, text string) (a Answer, commits int, err error) {
	rev := firstOf(q.Since, q.Graph.Repo.Since, "HEAD")
	base, missing, err := findBase(ctx, repo, q, rev)
	if err == nil && base == "" {
		err = &SinceError{fmt.Errorf("%s, so the commits since then are not known%s", missing, remedy(rev, missing))}
	}
	if err != nil {
		return a, 0, err
	}
	if commits, q.Paths, err = repo.ChangedBy(ctx, base, text); err != nil {
		return a, 0, err
	}
	q.Paths = append([]string{}, q.Paths...)
	a, err = Find(ctx, repo, q)
	return a, commits, err
}

func firstOf(revs ...string) string {
	for _, rev := range revs {
		if rev != "" {
			return rev
		}
	}
	return ""
}

const shallow = "this clone is shallow and does not reach back"

func remedy(rev, missing string) string {
	switch {
	case rev == LastGood, missing == noCommit:
		return ""
	case strings.HasPrefix(missing, shallow):
		return "; `git fetch --unshallow` fixes that"
	}
	return "; set since in [repo], or give --since"
}

// findBase returns the merge base of rev and HEAD; if there is none, the commit
// is empty and missing says why.
func findBase(ctx context.Context, repo git.Repo, q Question, rev string) (commit, missing string, err error) {
	if rev == LastGood {
		return lastGood(ctx, repo, q)
	}
	at := rev
	if _, err := repo.Resolve(ctx, rev); err != nil {
		if refused := repo.Check(ctx); refused != nil {
			return "", "", refused
		}
		// A clone that CI made of another branch has this one only as it is at the remote.
		if at = repo.RemoteBranch(ctx, rev); at == "" {
			if q.Since != "" && !repo.Shallow(ctx) {
				return "", "", &SinceError{err}
			}
			return "", unknown(ctx, repo, rev), nil
		}
	}
	commit, _, err = repo.MergeBase(ctx, at)
	if commit == "" {
		missing = noBase(ctx, repo, rev)
	}
	return commit, missing, err
}

const noCommit = "the repository has no commit yet"

// unknown says why there is no revision of that name.
func unknown(ctx context.Context, repo git.Repo, rev string) string {
	if why := cutShort(ctx, repo, rev); why != "" {
		return why
	}
	return fmt.Sprintf("git knows no revision %q in this repository", rev)
}

func noBase(ctx context.Context, repo git.Repo, rev string) string {
	if why := cutShort(ctx, repo, rev); why != "" {
		return why
	}
	return fmt.Sprintf("git finds no common ancestor with %q", rev)
}

// cutShort says that there is no history to look in; empty if there is.
func cutShort(ctx context.Context, repo git.Repo, rev string) string {
	if commit, _ := repo.Head(ctx); commit == "" {
		return noCommit
	}
	if repo.Shallow(ctx) {
		return shallow + " to " + rev
	}
	return ""
}

// lastGood returns the first candidate that is an ancestor of HEAD. On a
// detached head, candidates of any branch are accepted.
func lastGood(ctx context.Context, repo git.Repo, q Question) (commit, missing string, err error) {
	_, branch := repo.Head(ctx)
	candidates, err := q.LastGood(ctx, branch)
	if err != nil {
		return "", fmt.Sprintf("the service did not name the last good commit (%v)", err), nil
	}
	for _, c := range candidates {
		if repo.Ancestor(ctx, c) {
			return c, "", nil
		}
	}
	return "", "the service has no run on the trusted shelf that passed at an ancestor of this commit", nil
}
