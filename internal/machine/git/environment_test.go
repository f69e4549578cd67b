package git

import (
	"context"
	"path/filepath"
	"slices"
	"testing"
)

func TestWhatGitTellsItsHooksNamesNoOtherRepository(t *testing.T) {
	inner, in := repo(t)
	put(t, inner, ".gitignore", "*.log\n")
	put(t, inner, "kept.log", "x")
	in("add", "--force", "-A")
	in("commit", "-q", "-m", "inner")

	r, run := repo(t)
	put(t, r, "project/.gitignore", "*.log\n")
	put(t, r, "project/kept.log", "x")
	run("add", "--force", "-A")
	run("submodule", "--quiet", "add", inner.Dir, "sub")
	run("commit", "-q", "-m", "outer")
	linked := filepath.Join(t.TempDir(), "linked")
	run("worktree", "add", "-q", "-b", "other", linked)
	ctx := context.Background()

	// As a hook of a commit in the linked checkout is called: without the path of the checkout.
	dir := filepath.Join(r.Dir, ".git", "worktrees", "linked")
	t.Setenv("GIT_DIR", dir)
	t.Setenv("GIT_INDEX_FILE", filepath.Join(dir, "index"))
	t.Setenv("GIT_LITERAL_PATHSPECS", "1")
	want := []string{".gitignore", "kept.log"}
	for _, at := range []string{filepath.Join(linked, "project"), filepath.Join(r.Dir, "project"), filepath.Join(r.Dir, "sub"), inner.Dir} {
		if got, err := (Repo{at}).Files(ctx); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s has the files %q, %v; want %q", at, got, err, want)
		}
		if got, err := (Repo{at}).Tracked(ctx, "kept.log"); err != nil || !slices.Equal(got, want[1:]) {
			t.Errorf("%s: git tracks %q, %v", at, got, err)
		}
	}
	if _, branch := (Repo{r.Dir}).Head(ctx); branch != "main" {
		t.Errorf("the branch is %q, not that of the directory", branch)
	}
}

func TestACheckoutWithoutARepositoryInItIsFoundByTheEnvironment(t *testing.T) {
	r, run := repo(t)
	apart := t.TempDir()
	put(t, Repo{apart}, "tracked", "x")
	run("--work-tree="+apart, "add", "-A")
	t.Setenv("GIT_DIR", filepath.Join(r.Dir, ".git"))
	t.Setenv("GIT_WORK_TREE", apart)
	if got, err := (Repo{apart}).Files(context.Background()); err != nil || !slices.Equal(got, []string{"tracked"}) {
		t.Errorf("%q, %v", got, err)
	}
}
