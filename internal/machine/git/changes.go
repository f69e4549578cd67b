package git

import (
	"context"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
)

// Changes returns every path that differs between a commit and the current
// files: committed since, staged, unstaged and untracked. It includes deletions
// and both sides of a rename.
func (r Repo) Changes(ctx context.Context, since string) ([]string, error) {
	return r.together(ctx, append(trackedChanges(since), untracked())...)
}

// TrackedChanges returns those of [Repo.Changes] that are committed, staged or in files that git
// tracks.
func (r Repo) TrackedChanges(ctx context.Context, since string) ([]string, error) {
	return r.together(ctx, trackedChanges(since)...)
}

// Untracked returns the files that git does not track and the ignore files do not exclude.
func (r Repo) Untracked(ctx context.Context) ([]string, error) { return r.together(ctx, untracked()) }

// ChangesIn returns those of [Repo.Changes] that are directly in one of some directories, and
// possibly some that are below them.
func (r Repo) ChangesIn(ctx context.Context, since string, dirs []string) ([]string, error) {
	var in []string
	for _, d := range dirs {
		in = append(in, directlyIn(d))
	}
	questions := append(trackedChanges(since), append(untracked(), "--"))
	for i := range questions {
		questions[i] = append(questions[i], in...)
	}
	return r.together(ctx, questions...)
}

var escaped = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`)

// directlyIn returns the pattern, as git wants it, for what is directly in a directory.
func directlyIn(dir string) string {
	if dir == "." {
		return ":(glob)*"
	}
	return ":(glob)" + escaped.Replace(dir) + "/*"
}

func trackedChanges(since string) [][]string {
	return [][]string{
		{"diff", "--name-only", "-z", "--no-renames", "--no-ext-diff", "--relative", "--ignore-submodules=none", since, "--"},
		{"diff", "--cached", "--name-only", "-z", "--no-renames", "--no-ext-diff", "--relative", since, "--"},
	}
}

func untracked() []string {
	return []string{"ls-files", "-z", "--others", "--exclude-per-directory=.gitignore"}
}

// together asks several questions at the same time, since each takes a while, and returns the
// paths of all answers.
func (r Repo) together(ctx context.Context, questions ...[]string) ([]string, error) {
	answers := make([][]byte, len(questions))
	g, gctx := errgroup.WithContext(ctx)
	for i, args := range questions {
		g.Go(func() (err error) { answers[i], err = r.run(gctx, nil, args...); return err })
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return paths(slices.Concat(answers...))
}
