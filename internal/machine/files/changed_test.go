package files

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/machine/git"
)

// changed returns what differs from a commit, asked as a command does, and whether git was asked
// about a part of the files only.
func (p *place) changed(base string) (paths []string, part bool) {
	p.t.Helper()
	c := p.settled()
	index, _ := c.indexState()
	last, ok := changedFormat.Load(c.stateFile("changed"))
	c.Ahead(p.t.Context())
	paths, err := c.Changed(p.t.Context(), base)
	if err != nil {
		p.t.Fatal(err)
	}
	return paths, ok && last.base == base && last.index == index
}

func (p *place) differs(base, what string) (part bool) {
	p.t.Helper()
	got, part := p.changed(base)
	want, err := git.Repo{Dir: p.root}.Changes(context.Background(), base)
	if err != nil {
		p.t.Fatal(err)
	}
	if !slices.Equal(got, want) {
		p.t.Fatalf("%s, in part: %t:\ngot  %q\nwant %q", what, part, got, want)
	}
	return part
}

func (p *place) withState() {
	p.t.Helper()
	p.t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	p.git("init", "-q")
	if err := os.MkdirAll(filepath.Join(p.root, ".grayloft"), 0o755); err != nil {
		p.t.Fatal(err)
	}
	p.write(".grayloft/.gitignore", "*\n")
	p.git("config", "user.name", "t")
	p.git("config", "user.email", "t@t.example")
}

// TestWhatChangedIsWhatGitSays makes random changes to a checkout and compares the paths that
// differ from a commit, which are remembered, with a new answer from git after each.
func TestWhatChangedIsWhatGitSays(t *testing.T) {
	parts, wholes := 0, 0
	for seed := range uint64(3) {
		p := &place{t, t.TempDir(), rand.New(rand.NewPCG(seed, 23))}
		p.withState()
		for range 15 {
			p.write(p.name(), "first")
		}
		p.git("add", "-A")
		p.git("commit", "-q", "--allow-empty", "-m", "first")
		p.git("tag", "start")
		for range 40 {
			what := p.change()
			if p.rnd.IntN(8) == 0 {
				p.git("commit", "-q", "--allow-empty", "-m", "next")
				what += ", commit"
			}
			base, err := git.Repo{Dir: p.root}.Resolve(t.Context(), []string{"HEAD", "HEAD", "start"}[p.rnd.IntN(3)])
			if err != nil {
				t.Fatal(err)
			}
			if p.differs(base, what) {
				parts++
			} else {
				wholes++
			}
		}
	}
	if parts < 20 || wholes < 20 {
		t.Errorf("git was asked about a part %d times, about all files %d times: too few of one to tell", parts, wholes)
	}
}

func TestWhatChangedIsNotRememberedWhereMoreThanFilesDecides(t *testing.T) {
	p := &place{t: t, root: t.TempDir()}
	p.withState()
	p.write("a/text", "one\n")
	p.write("b/text", "two\n")
	p.git("add", "-A")
	p.git("commit", "-q", "-m", "first")
	base, err := git.Repo{Dir: p.root}.Resolve(t.Context(), "HEAD")
	if err != nil {
		t.Fatal(err)
	}
	p.write("a/new", "staged\n")
	p.git("add", "a/new")
	_ = os.Remove(filepath.Join(p.root, "a/new"))
	p.differs(base, "staged, and not there")
	if !p.differs(base, "the same again") {
		t.Error("the answer was not remembered")
	}
	p.git("reset", "-q")
	p.differs(base, "nothing is staged")
	p.write("a/text", "one\r\n")
	p.differs(base, "another end of line")
	p.differs(base, "the same end of line")
	p.write("b/.gitattributes", "*.md text\n")
	p.write(".gitattributes", "* text\n")
	p.differs(base, "git takes both ends of line for one")
	p.git("-c", "protocol.file.allow=always", "submodule", "add", "-q", p.root, "sub")
	p.differs(base, "a submodule is new")
	p.git("-C", "sub", "-c", "user.name=t", "-c", "user.email=t@t.example", "commit", "-q", "--allow-empty", "-m", "inside")
	p.write("sub/more", "untracked in the submodule")
	p.differs(base, "the submodule is at another commit")
}

// A file that changes as it is looked at could have been seen by git before or after.
func TestWhatChangedIsAskedAgainAboutFilesThatJustChanged(t *testing.T) {
	p := &place{t: t, root: t.TempDir()}
	p.withState()
	p.write("a/old", "one\n")
	p.git("add", "-A")
	p.git("commit", "-q", "-m", "first")
	base, err := git.Repo{Dir: p.root}.Resolve(t.Context(), "HEAD")
	if err != nil {
		t.Fatal(err)
	}
	c := &Checkout{Root: p.root, Git: git.Repo{Dir: p.root}, Memory: NewMemory(p.root)}
	for index, ok := c.indexState(); !ok || !index.settledBefore(time.Now()); { // for 20 ms
		time.Sleep(time.Millisecond)
	}
	p.write("b/new", "two\n") // its times are those of the survey, as far as can be told
	c.Ahead(t.Context())
	if _, err := c.Changed(t.Context(), base); err != nil {
		t.Fatal(err)
	}
	last, ok := changedFormat.Load(c.stateFile("changed"))
	if d, known := last.dirs["b"]; !ok || !known || !d.IsZero() {
		t.Errorf("remembered: %v, of b: %v", ok, d)
	}
}
