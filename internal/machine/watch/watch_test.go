package watch

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/git"
)

// counted counts how often git is asked.
type counted struct {
	git.Repo
	asked atomic.Int32
}

func (c *counted) Ignored(ctx context.Context, among []string) ([]string, error) {
	c.asked.Add(1)
	return c.Repo.Ignored(ctx, among)
}

type watched struct {
	*Watcher
	t      *testing.T
	root   string
	source *counted
	loads  atomic.Int32
}

func watchRepo(t *testing.T) *watched {
	t.Helper()
	w := &watched{t: t, root: t.TempDir()}
	w.write("grayloft.toml", "schema = 1\n[repo]\nname = \"r\"\nprojects = [\"*\"]\n")
	w.write("app/loft.toml", "[project]\nname = \"app\"\n[task.make]\nrun = \"true\"\nwrites = [\"out/**\"]\n")
	w.write("app/src.txt", "one")
	w.write(".gitignore", "cache/\n")
	w.git("init", "-q")
	// As of a submodule, git tracks one commit of this repository.
	w.write("app/lib/sub/deep.txt", "one")
	w.git("-C", "app/lib", "init", "-q")
	w.git("-C", "app/lib", "add", "-A")
	w.git("-C", "app/lib", "-c", "user.name=t", "-c", "user.email=t@t.example", "commit", "-qm", "one")
	w.git("add", "app/lib")
	if _, err := graph.Load(os.DirFS(w.root), "r"); err != nil {
		t.Fatal(err)
	}
	w.source = &counted{Repo: git.Repo{Dir: w.root}}
	var err error
	w.Watcher, err = New(t.Context(), w.root, w.source, func(context.Context) (*graph.Graph, error) {
		w.loads.Add(1)
		return graph.Load(os.DirFS(w.root), "r")
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.Close() })
	return w
}

func (w *watched) git(args ...string) {
	w.t.Helper()
	if out, err := exec.Command("git", append([]string{"-C", w.root}, args...)...).CombinedOutput(); err != nil {
		w.t.Fatalf("git %v: %s", args, out)
	}
}

func (w *watched) write(name, text string) {
	w.t.Helper()
	full := filepath.Join(w.root, name)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		w.t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		w.t.Fatal(err)
	}
}

// next returns the next change.
func (w *watched) next() string {
	w.t.Helper()
	select {
	case p := <-w.Changes:
		return p
	case <-time.After(time.Minute):
		w.t.Fatal("no change was reported")
		return ""
	}
}

func TestFilesInNestedNewDirectoriesAreSeen(t *testing.T) {
	w := watchRepo(t)
	w.write("app/a/b/c/first.txt", "one")
	if got := w.next(); got != "app/a/b/c/first.txt" {
		t.Errorf("reported %s", got)
	}
	w.write("app/a/b/c/first.txt", "two") // its directory is watched by now
	if got := w.next(); got != "app/a/b/c/first.txt" {
		t.Errorf("reported %s", got)
	}
}

func TestManyEventsReloadNothingAndAskGitFewTimes(t *testing.T) {
	w := watchRepo(t)
	for i := range 300 {
		w.write(fmt.Sprintf("app/out/%d.txt", i), "made")
		w.write(fmt.Sprintf("app/cache/%d.txt", i), "ignored")
		w.write(fmt.Sprintf("app/many-%03d.txt", i), "source")
	}
	if got := w.next(); got != "app/many-000.txt" {
		t.Errorf("reported %s", got)
	}
	if loads := w.loads.Load(); loads != 1 {
		t.Errorf("the declarations were read %d times, though none changed", loads)
	}
	if asked := w.source.asked.Load(); asked > 20 {
		t.Errorf("git was asked %d times about 900 events", asked)
	}
}

// Files that git ignores are read where patterns lead to them.
func TestIgnoredFilesThatATaskReadsAreWatched(t *testing.T) {
	w := watchRepo(t)
	w.write(".gitignore", "cache/\nlocal.ini\n")
	w.next()
	w.write("app/loft.toml", "[project]\nname = \"app\"\n[task.make]\nrun = \"true\"\nwrites = []\n"+
		"reads = [\"*.txt\", \"local.ini\", \"cache/deep/*\"]\n")
	w.next()
	w.write("app/cache/other.txt", "ignored")
	w.write("app/local.ini", "read")
	if got := w.next(); got != "app/local.ini" {
		t.Errorf("reported %s", got)
	}
	w.write("app/cache/deep/file", "read, in a new directory")
	if got := w.next(); got != "app/cache/deep/file" {
		t.Errorf("reported %s", got)
	}
	w.write("app/cache/deep/file", "read, in a directory that is known")
	if got := w.next(); got != "app/cache/deep/file" {
		t.Errorf("reported %s", got)
	}
	w.Running(true)
	w.write("app/cache/deep/file", "a task may have made it")
	w.write("app/src.txt", "nobody but a person writes sources")
	if got := w.next(); got != "app/src.txt" {
		t.Errorf("reported %s while a task ran", got)
	}
	w.Running(false)
	w.write("app/local.ini", "late")
	w.write("app/src.txt", "again")
	if got := w.next(); got != "app/src.txt" {
		t.Errorf("reported %s as a task ended", got)
	}
	w.write("app/local.ini", "by a person") // files have been unchanged for long enough
	if got := w.next(); got != "app/local.ini" {
		t.Errorf("reported %s", got)
	}
}

func TestOnlyRelevantChangesAreReported(t *testing.T) {
	w := watchRepo(t)
	w.write("app/out/made.txt", "an output")
	w.write("app/cache/x.txt", "ignored")
	w.write(".grayloft/journal", "own records")
	w.write("app/loft.toml", "[project]\nname = \"app\"\n[task.make]\nrun = \"true\"\nwrites = [\"src.txt\"]\n")
	if got := w.next(); got != "app/loft.toml" {
		t.Errorf("reported %s", got)
	}
	w.write("app/src.txt", "now an output")
	w.write("app/other.txt", "a source")
	if got := w.next(); got != "app/other.txt" {
		t.Errorf("reported %s", got)
	}
	if loads := w.loads.Load(); loads != 2 {
		t.Errorf("the declarations were read %d times, and changed once", loads)
	}
}

func TestFilesOfASubmoduleAreWatched(t *testing.T) {
	w := watchRepo(t)
	w.write("app/lib/sub/deep.txt", "two")
	if p := w.next(); p != "app/lib/sub/deep.txt" {
		t.Errorf("%s changed", p)
	}
}
