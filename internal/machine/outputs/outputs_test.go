package outputs

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/store"
)

// place is a checkout with one task, gen@p, which writes gen/** and note.
type place struct {
	t    *testing.T
	root string
	out  *Set
	said []string
}

func newPlace(t *testing.T) *place {
	t.Helper()
	p := &place{t: t, root: t.TempDir()}
	if out, err := exec.Command("git", "init", "-q", p.root).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	g, err := graph.Load(fstest.MapFS{
		"grayloft.toml":         {Data: []byte("schema = 1\n[repo]\nprojects = [\"p\", \"p/gen/inner\"]\n")},
		"p/loft.toml":           {Data: []byte("[task.gen]\nrun = \"true\"\nwrites = [\"gen/**\", \"note\"]\n")},
		"p/gen/inner/loft.toml": {Data: []byte("[task.own]\nrun = \"true\"\nwrites = []\n")},
	}, "t")
	if err != nil {
		t.Fatal(err)
	}
	state, err := checkout.Open(p.root)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { state.Close() })
	st, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	p.out = &Set{
		State: state, Store: st, Task: g.Task("gen@p"), Run: "run1", Report: func(s string) { p.said = append(p.said, s) },
		Files: &files.Checkout{Root: p.root, Git: git.Repo{Dir: p.root}, Memory: files.NewMemory(p.root), Graph: g},
	}
	return p
}

func (p *place) write(name, text string) {
	p.t.Helper()
	full := filepath.Join(p.root, name)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		p.t.Fatal(err)
	}
}

func (p *place) read(name string) string {
	b, err := os.ReadFile(filepath.Join(p.root, name))
	if err != nil {
		return "-"
	}
	return string(b)
}

func (p *place) keep() listing.List {
	p.t.Helper()
	kept, err := p.out.Keep(nil)
	if err != nil {
		p.t.Fatal(err)
	}
	return kept.List
}

func (p *place) begin(list listing.List) *Restoration {
	p.t.Helper()
	r, err := p.out.Begin(list)
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(r.Drop)
	return r
}

func (p *place) track(name string) {
	p.t.Helper()
	if out, err := exec.Command("git", "-C", p.root, "add", "-f", name).CombinedOutput(); err != nil {
		p.t.Fatal(err, string(out))
	}
}

func TestKeptOutputsAreRestoredUnchanged(t *testing.T) {
	p := newPlace(t)
	p.write("p/gen/a", "a")
	p.write("p/gen/deep/b", "b")
	p.write("p/note", "n")
	p.write("p/other", "not written by the task")
	p.write("p/gen/inner/x", "another project's")
	os.Chmod(filepath.Join(p.root, "p/gen/a"), 0o755)
	os.MkdirAll(filepath.Join(p.root, "p/gen/empty"), 0o755)
	os.Symlink("deep/b", filepath.Join(p.root, "p/gen/link"))
	list := p.keep()
	var got []string
	for _, r := range list {
		got = append(got, string(r.Kind)+" "+r.Path)
	}
	if want := "x gen/a, f gen/deep/b, d gen/empty, l gen/link, f note"; strings.Join(got, ", ") != want {
		t.Fatalf("kept %v, want %s", got, want)
	}
	ctx := context.Background()
	if right, err := p.out.Right(ctx, list); err != nil || !right {
		t.Errorf("what was just kept is not right: %v", err)
	}
	if err := p.out.Clear(ctx, list); err != nil {
		t.Fatal(err)
	}
	if found, err := p.out.Found(); err != nil || len(found) > 0 || len(p.said) > 0 {
		t.Errorf("left after clearing: %v, %v; said %v", found, err, p.said)
	}
	if p.read("p/gen/inner/x") == "-" || p.read("p/other") == "-" {
		t.Error("clearing took what is not the task's")
	}
	if err := p.out.Restore(ctx, list, nil); err != nil {
		t.Fatal(err)
	}
	if right, err := p.out.Right(ctx, list); err != nil || !right || p.read("p/gen/deep/b") != "b" {
		t.Errorf("what was restored is not right: %v", err)
	}
	for what, spoil := range map[string]func(){
		"contents": func() { p.write("p/gen/deep/b", "B") },
		"a bit":    func() { os.Chmod(filepath.Join(p.root, "p/gen/a"), 0o644) },
		"a target": func() {
			os.Remove(filepath.Join(p.root, "p/gen/link"))
			os.Symlink("a", filepath.Join(p.root, "p/gen/link"))
		},
		"an empty directory": func() { os.Remove(filepath.Join(p.root, "p/gen/empty")) },
		"a file more":        func() { p.write("p/gen/more", "") },
		"a file less":        func() { os.Remove(filepath.Join(p.root, "p/note")) },
	} {
		if err := p.out.Restore(ctx, list, list); err != nil {
			t.Fatal(what, err)
		}
		spoil()
		if right, err := p.out.Right(ctx, list); err != nil || right {
			t.Errorf("%s changed, and it is still right: %v", what, err)
		}
	}
}

func TestDisplacedFilesAreNeverLost(t *testing.T) {
	p := newPlace(t)
	ctx := context.Background()
	p.write("p/gen/made", "made")
	list := p.keep()
	p.write("p/gen/stray", "somebody's")
	p.write("p/gen/tracked", "in git")
	p.track("p/gen/tracked")
	p.write("p/gen/made", "altered by hand")
	if err := p.out.Clear(ctx, list); err != nil {
		t.Fatal(err)
	}
	if p.read(".grayloft/displaced/run1/p/gen/stray") != "somebody's" || p.read(".grayloft/displaced/run1/p/gen/made") != "altered by hand" {
		t.Errorf("not moved aside; said %v", p.said)
	}
	if len(p.said) != 1 || !strings.Contains(p.said[0], "p/gen/stray") {
		t.Errorf("said %v", p.said)
	}
	if p.read("p/gen/tracked") != "-" {
		t.Error("a tracked file was left in the way")
	}
	// The client is killed here: the next one finds what was set aside.
	again := *p.out
	if err := again.PutBack(); err != nil || p.read("p/gen/tracked") != "in git" {
		t.Errorf("the tracked file did not come back: %v", err)
	}
}

func TestHostileListingsAreNotRestored(t *testing.T) {
	p := newPlace(t)
	outside := t.TempDir()
	d, err := p.out.Store.Put([]byte("evil"))
	if err != nil {
		t.Fatal(err)
	}
	row := func(path string) listing.Row { return listing.Row{Kind: listing.File, Size: 4, Digest: d, Path: path} }
	link := func(path, target string) listing.Row {
		return listing.Row{Kind: listing.Link, Size: int64(len(target)), Target: target, Path: path}
	}
	for what, list := range map[string]listing.List{
		"outside of its writes":       {row("other")},
		"into another project":        {row("gen/inner/x")},
		"a link out of the checkout":  {link("gen/l", "../../../x")},
		"a link to an absolute path":  {link("gen/l", outside)},
		"another size than declared":  {{Kind: listing.File, Size: 9, Digest: d, Path: "gen/x"}},
		"a blob that is not there":    {{Kind: listing.File, Size: 1, Digest: digest.Of([]byte("?")), Path: "gen/x"}},
		"below a link of the listing": {link("gen/dir", "."), row("gen/dir/x")},
	} {
		if err := p.out.Restore(context.Background(), list, nil); err == nil {
			t.Errorf("%s: written out", what)
		}
		os.RemoveAll(filepath.Join(p.root, "p/gen"))
	}
	// A link in place of a directory is not followed.
	if err := os.MkdirAll(filepath.Join(p.root, "p"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(p.root, "p/gen")); err != nil {
		t.Fatal(err)
	}
	if err := p.out.Restore(context.Background(), listing.List{row("gen/x")}, nil); err != nil {
		t.Errorf("a link in the way was not moved aside: %v", err)
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Errorf("written through a link: %v", left)
	}
}

func TestSpecialFilesAreNotKeptAndDoNotPreventTheNextRun(t *testing.T) {
	p := newPlace(t)
	makePipe := func() {
		t.Helper()
		if err := os.MkdirAll(filepath.Join(p.root, "p/gen"), 0o755); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("mkfifo", filepath.Join(p.root, "p/gen/x")).CombinedOutput(); err != nil {
			t.Fatal(err, string(out))
		}
	}
	p.write("p/gen/x", "text")
	list := p.keep()
	if err := p.out.Clear(t.Context(), list); err != nil {
		t.Fatal(err)
	}
	makePipe()
	if _, err := p.out.Keep(nil); err == nil || !strings.Contains(err.Error(), "p/gen/x is a device, a pipe or a socket") {
		t.Errorf("%v", err)
	}
	if err := p.out.Clear(t.Context(), list); err != nil {
		t.Fatal(err)
	}
	if some, err := p.out.Any(); err != nil || some {
		t.Errorf("something is left: %v, %v", some, err)
	}
	if len(p.said) != 1 || !strings.Contains(p.said[0], "moved p/gen/x to .grayloft/displaced/") {
		t.Errorf("%q", p.said)
	}
	makePipe()
	if err := p.out.Restore(t.Context(), list, list); err != nil || p.read("p/gen/x") != "text" {
		t.Errorf("in place of the pipe is %q, %v", p.read("p/gen/x"), err)
	}
}

func TestOutputsThatContainTheCheckoutsPathAreNamed(t *testing.T) {
	p := newPlace(t)
	p.write("p/gen/plain", "nothing of that")
	p.write("p/gen/root", "made in "+p.root+"/nowhere-there")
	p.write("p/gen/inside", strings.Repeat("x", 70000)+p.root+"/p/gen and more")
	kept, err := p.out.Keep(nil)
	if err != nil || len(kept.CheckoutPaths) != 1 || kept.CheckoutPaths[0] != "gen/inside" {
		t.Errorf("%v, %v", kept.CheckoutPaths, err)
	}
}
