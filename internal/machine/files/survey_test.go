package files

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/git"
)

// place is a checkout that a test changes at random.
type place struct {
	t    *testing.T
	root string
	rnd  *rand.Rand
}

// settled returns the checkout as a command sees it for which everything that is there has long been
// there, so that it is remembered.
func (p *place) settled() *Checkout {
	p.tick()
	return &Checkout{
		Root: p.root, Git: git.Repo{Dir: p.root}, Memory: NewMemory(p.root),
		clock: func() time.Time { return time.Now().Add(time.Hour) },
	}
}

// tick waits until the file system's time is another one: what changes later shows.
func (p *place) tick() {
	p.t.Helper()
	var first time.Time
	for {
		p.write(".git/tick", "")
		info, err := os.Stat(filepath.Join(p.root, ".git/tick"))
		if err != nil {
			p.t.Fatal(err)
		}
		if first.IsZero() {
			first = info.ModTime()
		}
		if info.ModTime().After(first) {
			return
		}
	}
}

func (p *place) git(args ...string) {
	p.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = p.root
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1")
	if out, err := cmd.CombinedOutput(); err != nil {
		p.t.Fatalf("git %v: %v: %s", args, err, out)
	}
}

func (p *place) write(name, text string) {
	p.t.Helper()
	full := filepath.Join(p.root, name)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		return // there is a file instead of a directory
	}
	_ = os.WriteFile(full, []byte(text), 0o644) // there may be a directory
}

var segments = []string{"a", "b", "out", "x.log", "ünlikely \"name\"", "deep", "gen"}

func (p *place) name() string {
	parts := make([]string, 1+p.rnd.IntN(4))
	for i := range parts {
		parts[i] = segments[p.rnd.IntN(len(segments))]
	}
	return strings.Join(parts, "/")
}

// change makes one random change that may alter the set of files.
func (p *place) change() string {
	n := p.name()
	switch p.rnd.IntN(10) {
	case 0, 1, 2:
		p.write(n, fmt.Sprint(p.rnd.Int()))
		return "write " + n
	case 3:
		_ = os.RemoveAll(filepath.Join(p.root, n))
		return "remove " + n
	case 4:
		p.git("add", "-A")
		return "add all"
	case 5:
		rules := []string{"out/\n", "*.log\n", "/gen\n!x.log\n", "", "out\n!out/a\n"}[p.rnd.IntN(5)]
		p.write(".gitignore", rules)
		return "ignore " + rules
	case 6:
		p.write("a/.gitignore", "b\n")
		return "ignore below a"
	case 7:
		_ = os.Remove(filepath.Join(p.root, "a/.gitignore"))
		return "no rules below a"
	case 8:
		info, err := os.Lstat(filepath.Join(p.root, n))
		_ = os.RemoveAll(filepath.Join(p.root, n))
		if err == nil && !info.IsDir() {
			p.write(n+"/inside", "x")
			return "a directory instead of the file " + n
		}
		p.write(n, "x")
		return "a file instead of the directory " + n
	}
	if p.rnd.IntN(4) == 0 {
		dir := filepath.Join(p.root, "nested")
		if os.MkdirAll(dir, 0o755) == nil {
			p.git("init", "-q", "nested")
			p.git("-C", "nested", "-c", "user.name=t", "-c", "user.email=t@t.example", "commit", "-q", "--allow-empty", "-m", "x")
			p.write("nested/file", "x")
		}
		return "a repository inside"
	}
	_ = os.Rename(filepath.Join(p.root, n), filepath.Join(p.root, p.name()))
	return "rename " + n
}

// TestTheSurveyFindsWhatGitLists makes random changes to a checkout and
// compares the survey, which remembers directories, ignored paths and tracked
// paths, with a new answer from git after each.
func TestTheSurveyFindsWhatGitLists(t *testing.T) {
	g, err := graph.Load(fstest.MapFS{"grayloft.toml": {Data: []byte("schema = 1\n")}}, "t")
	if err != nil {
		t.Fatal(err)
	}
	for seed := range uint64(6) {
		p := &place{t, t.TempDir(), rand.New(rand.NewPCG(seed, 11))}
		p.git("init", "-q")
		p.write(".git/info/exclude", "deep\n") // a person's own rules do not count
		if err := os.MkdirAll(filepath.Join(p.root, ".grayloft"), 0o755); err != nil {
			t.Fatal(err)
		}
		p.write(".grayloft/.gitignore", "*\n")
		steps := 0
		for step := range 60 {
			what := p.change()
			c := p.settled()
			c.Graph = g
			list, err := c.survey(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			got := []string{}
			for _, f := range list {
				got = append(got, f.path)
			}
			want, err := git.Repo{Dir: p.root}.Files(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			want = slices.DeleteFunc(want, func(f string) bool {
				info, err := os.Lstat(filepath.Join(p.root, f))
				return err != nil || info.IsDir()
			})
			if !slices.Equal(got, want) {
				t.Fatalf("seed %d, step %d (%s):\nsurvey %q\ngit    %q", seed, step, what, got, want)
			}
			steps++
		}
		if steps != 60 {
			t.Errorf("%d steps", steps)
		}
	}
}

// visible returns the files that a command finds which starts now.
func (p *place) visible() []string {
	p.t.Helper()
	v, err := p.settled().Visible(p.t.Context())
	if err != nil {
		p.t.Fatal(err)
	}
	return v.Paths()
}

// A rule that ends in "/" is about directories.
func TestAFileInPlaceOfAnIgnoredDirectoryCounts(t *testing.T) {
	p := &place{t: t, root: t.TempDir()}
	p.withState()
	p.write(".gitignore", "thing/\n")
	for _, c := range []struct {
		name string // of the file
		want []string
	}{
		{"thing/file", []string{".gitignore"}},
		{"thing", []string{".gitignore", "thing"}},
		{"thing/file", []string{".gitignore"}},
	} {
		_ = os.RemoveAll(filepath.Join(p.root, "thing"))
		p.write(c.name, "x")
		if got := p.visible(); !slices.Equal(got, c.want) {
			t.Errorf("with %s: %q, want %q", c.name, got, c.want)
		}
	}
}

// A tracked name that is a directory is a submodule only if git says so.
func TestADirectoryInPlaceOfATrackedFileCounts(t *testing.T) {
	p := &place{t: t, root: t.TempDir()}
	p.withState()
	p.write("thing", "a file")
	p.write("other", "a file")
	p.git("add", "-A")
	p.git("commit", "-q", "-m", "first")
	if got, want := p.visible(), []string{"other", "thing"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	_ = os.Remove(filepath.Join(p.root, "thing"))
	p.write("thing/inside", "x")
	if got, want := p.visible(), []string{"other", "thing/inside"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	p.write("thing/more", "x")
	if got, want := p.visible(), []string{"other", "thing/inside", "thing/more"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

// A new checkout, as every one of a CI machine, is walked once.
func TestANewCheckoutIsAskedAboutOnce(t *testing.T) {
	g, err := graph.Load(fstest.MapFS{"grayloft.toml": {Data: []byte("schema = 1\n")}}, "t")
	if err != nil {
		t.Fatal(err)
	}
	p := &place{t: t, root: t.TempDir()}
	p.git("init", "-q")
	p.write(".gitignore", "out\n")
	p.write("a/untracked", "")
	p.write("out/file", "")
	trace := filepath.Join(t.TempDir(), "trace")
	t.Setenv("GIT_TRACE", trace)
	survey := func() (names []string, asked int) {
		c := &Checkout{Root: p.root, Git: git.Repo{Dir: p.root}, Memory: NewMemory(p.root), Graph: g}
		list, err := c.survey(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list {
			names = append(names, f.path)
		}
		text, err := os.ReadFile(trace)
		if err != nil {
			t.Fatal(err)
		}
		return names, strings.Count(string(text), "git check-ignore")
	}
	want := []string{".gitignore", "a/untracked"}
	if got, asked := survey(); !slices.Equal(got, want) || asked != 2 {
		t.Errorf("%q, git was asked %d times, want 2: about what is at the top, and below a", got, asked)
	}
	p.write(".gitignore", "a\n")
	want = []string{".gitignore", "out/file"}
	if got, _ := survey(); !slices.Equal(got, want) {
		t.Errorf("after the rules changed: %q, want %q", got, want)
	}
}

func TestAManifestIsRememberedOnlyForItsOwnRows(t *testing.T) {
	p := &place{t, t.TempDir(), rand.New(rand.NewPCG(1, 1))}
	p.git("init", "-q")
	g, err := graph.Load(fstest.MapFS{"grayloft.toml": {Data: []byte("schema = 1\n[task.t]\nrun = \"true\"\nreads = [\"in/**\"]\nwrites = []\n")}}, "t")
	if err != nil {
		t.Fatal(err)
	}
	memory := NewMemory(p.root)
	take := func() string {
		c := &Checkout{Root: p.root, Git: git.Repo{Dir: p.root}, Memory: memory, Graph: g}
		s, err := c.Snapshot(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		root, _, parts, err := s.Reads(g.Task("t@t"), Left{Contains: func(string) bool { return false }})
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := parts.All()[root]; !ok {
			t.Fatalf("the digest is not that of its texts")
		}
		return root.String()
	}
	seen := map[string]string{}
	for _, change := range []func(){
		func() { p.write("in/a", "1") }, func() { p.write("in/b", "2") }, func() { p.write("in/a", "2"); p.write("in/b", "1") },
		func() { _ = os.Chmod(filepath.Join(p.root, "in/a"), 0o755) }, func() { _ = os.Remove(filepath.Join(p.root, "in/b")) },
		func() { _ = os.Rename(filepath.Join(p.root, "in/a"), filepath.Join(p.root, "in/c")) }, func() { _ = os.Symlink("c", filepath.Join(p.root, "in/d")) },
		func() { p.write("in/deep/a", "1") },
	} {
		change()
		now := take()
		if other, ok := seen[now]; ok {
			t.Errorf("two states have one digest: %s", other)
		}
		seen[now] = now
		if again := take(); again != now {
			t.Errorf("the same files have two digests: %s and %s", now, again)
		}
	}
	file := filepath.Join(t.TempDir(), "digests")
	if err := memory.Save(file); err != nil {
		t.Fatal(err)
	}
	before := take()
	memory = NewMemory(p.root)
	memory.Load(file)
	if after := take(); after != before || len(memory.manifests) == 0 {
		t.Errorf("kept and read again: %s and %s, %d manifests", before, after, len(memory.manifests))
	}
}
