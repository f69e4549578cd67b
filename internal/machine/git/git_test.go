package git

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func repo(t *testing.T) (Repo, func(args ...string) string) {
	t.Helper()
	dir := t.TempDir()
	run := func(args ...string) string {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-c", "user.name=t", "-c", "user.email=t@t.example", "-c", "protocol.file.allow=always"}, args...)...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	run("init", "-q", "-b", "main")
	return Repo{dir}, run
}

func put(t *testing.T, r Repo, name, text string) {
	t.Helper()
	full := filepath.Join(r.Dir, name)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

var odd = []string{"a b", "quo\"te", "new\nline", "tab\t", "ünïcödé/日本", "back\\slash", "-dash", "[glob]*"}

func TestUnusualPathsAreReturnedUnchanged(t *testing.T) {
	r, run := repo(t)
	ctx := context.Background()
	for i, name := range odd {
		put(t, r, name, "x")
		if i%2 == 0 {
			run("add", "--", ":(literal)"+name)
		}
	}
	want := slices.Sorted(slices.Values(odd))
	if got, err := r.Files(ctx); err != nil || !slices.Equal(got, want) {
		t.Errorf("%q, %v", got, err)
	}
	if got, err := r.Files(ctx, "[glob]*"); err != nil || !slices.Equal(got, []string{"[glob]*"}) {
		t.Errorf("a path is not taken literally: %q, %v", got, err)
	}
	run("commit", "-q", "-m", "some")
	first := run("rev-parse", "HEAD")
	for _, name := range odd {
		put(t, r, name, "changed")
	}
	if got, err := r.Changes(ctx, first); err != nil || !slices.Equal(got, want) {
		t.Errorf("changes: %q, %v", got, err)
	}
	put(t, r, "not\xffutf8", "x")
	if got, err := r.Files(ctx); err != nil || !slices.Contains(got, "not\xffutf8") { // only what reads it fails
		t.Errorf("a path that is not UTF-8: %q, %v", got, err)
	}
}

func TestOnlyTheRepositorysOwnIgnoreFilesCount(t *testing.T) {
	r, run := repo(t)
	put(t, r, ".gitignore", "out/\n")
	put(t, r, "sub/.gitignore", "*.log\n!keep.log\n")
	for _, f := range []string{"out/x", "sub/a.log", "sub/keep.log", "personal", "a.log"} {
		put(t, r, f, "x")
	}
	put(t, r, ".git/info/exclude", "personal\n")
	mine := filepath.Join(t.TempDir(), "ignore")
	if err := os.WriteFile(mine, []byte("a.log\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	run("config", "core.excludesFile", mine)
	want := []string{".gitignore", "a.log", "personal", "sub/.gitignore", "sub/keep.log"}
	if got, err := r.Files(context.Background()); err != nil || !slices.Equal(got, want) {
		t.Errorf("%q, %v; want %q", got, err, want)
	}
	if got, err := r.Ignored(context.Background(), []string{"out", "sub", "sub/a.log"}); err != nil || !slices.Equal(got, []string{"out", "sub/a.log"}) {
		t.Errorf("ignored: %q, %v", got, err)
	}
}

func TestChangesCountOnBothSides(t *testing.T) {
	r, run := repo(t)
	ctx := context.Background()
	for _, f := range []string{"kept", "gone", "moved", "staged", "edited"} {
		put(t, r, f, f+"\n")
	}
	run("add", "-A")
	run("commit", "-q", "-m", "one")
	base := run("rev-parse", "HEAD")
	run("rm", "-q", "gone")
	run("mv", "moved", "moved-to")
	run("commit", "-q", "-m", "two")
	put(t, r, "staged", "other\n")
	run("add", "staged")
	put(t, r, "staged", "staged\n") // staged, then changed back on the disk
	put(t, r, "edited", "other\n")
	put(t, r, "new", "new\n")
	want := []string{"edited", "gone", "moved", "moved-to", "new", "staged"}
	if got, err := r.Changes(ctx, base); err != nil || !slices.Equal(got, want) {
		t.Errorf("%q, %v; want %q", got, err, want)
	}
	texts, err := r.At(ctx, base, func(p string) bool { return p == "gone" || p == "edited" })
	if err != nil || string(texts["gone"]) != "gone\n" || string(texts["edited"]) != "edited\n" || len(texts) != 2 {
		t.Errorf("at the base: %q, %v", texts, err)
	}
	inner := Repo{filepath.Join(r.Dir, "sub")}
	put(t, r, "sub/below", "x")
	if got, err := inner.Changes(ctx, base); err != nil || !slices.Equal(got, []string{"below"}) {
		t.Errorf("from a directory inside: %q, %v", got, err)
	}
}

func TestWhereThereIsNoRepository(t *testing.T) {
	err := Repo{t.TempDir()}.Check(context.Background())
	if err == nil || !strings.Contains(err.Error(), "git init") {
		t.Errorf("%v", err)
	}
	r, _ := repo(t)
	if err := r.Check(context.Background()); err != nil {
		t.Error(err)
	}
	if commit, branch := r.Head(context.Background()); commit != "" || branch != "main" {
		t.Errorf("before the first commit: %q on %q", commit, branch)
	}
	if _, ok, err := r.MergeBase(context.Background(), "--all"); err == nil || ok {
		t.Errorf("a revision that is an option: %v, %v", ok, err)
	}
}
