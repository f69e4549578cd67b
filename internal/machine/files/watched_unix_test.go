//go:build linux || darwin

package files

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/git"
)

// What happens to the files of a task while it runs, and what is said about it.
func TestWhatWasInAnotherStateIsNoticed(t *testing.T) {
	g, err := graph.Load(fstest.MapFS{
		"grayloft.toml": {Data: []byte("schema = 1\n[repo]\nname = \"t\"\nprojects = [\"p\"]\n")},
		"p/loft.toml":   {Data: []byte("[task.t]\nrun = \"true\"\nreads = [\"in/**\", \"vendor/**\"]\nwrites = [\"out/**\"]\n")},
	}, "t")
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		does func(p *place, full func(string) string)
		says string // "" if the result may be kept
	}{
		"nothing":        {func(*place, func(string) string) {}, ""},
		"a file changed": {func(p *place, _ func(string) string) { p.write("p/in/a", "other") }, "p/in/a changed"},
		"a file changed and changed back, with its times": {func(p *place, full func(string) string) {
			info, _ := os.Stat(full("p/in/a"))
			p.write("p/in/a", "2")
			p.write("p/in/a", "1")
			_ = os.Chtimes(full("p/in/a"), info.ModTime(), info.ModTime())
		}, "p/in/a changed"},
		"a file was away": {func(_ *place, full func(string) string) {
			_ = os.Rename(full("p/in/a"), full("p/in/b"))
			_ = os.Rename(full("p/in/b"), full("p/in/a"))
		}, "p/in/a changed"},
		"a directory was another one": {func(p *place, full func(string) string) {
			_ = os.Rename(full("p/in"), full("p/away"))
			p.write("p/in/a", "other")
			_ = os.RemoveAll(full("p/in"))
			_ = os.Rename(full("p/away"), full("p/in"))
		}, "p/in was moved"},
		"a directory was replaced by its copy": {func(p *place, full func(string) string) {
			_ = os.Rename(full("p/in/deep"), full("p/in/old"))
			_ = os.Mkdir(full("p/in/deep"), 0o755)
			_ = os.Rename(full("p/in/old/x"), full("p/in/deep/x"))
			_ = os.Remove(full("p/in/old"))
		}, "p/in/deep was replaced"},
		"a file was there for a while": {func(p *place, full func(string) string) {
			p.write("p/in/ghost", "boo")
			_ = os.Remove(full("p/in/ghost"))
		}, "p/in contained something for a while"},
		"an ignored file that is read was there for a while": {func(p *place, full func(string) string) {
			p.write("p/vendor/ghost", "boo")
			_ = os.Remove(full("p/vendor/ghost"))
		}, "p/vendor contained something for a while"},
		"a file is gone":               {func(_ *place, full func(string) string) { _ = os.Remove(full("p/in/a")) }, "p/in/a is gone"},
		"an ignored file that is read": {func(p *place, _ func(string) string) { p.write("p/vendor/v", "2") }, "p/vendor/v changed"},
		"outputs are made":             {func(p *place, _ func(string) string) { p.write("p/out/made", "x"); p.write("p/out/deep/made", "x") }, ""},
		"outputs are made again": {func(p *place, full func(string) string) {
			_ = os.RemoveAll(full("p/out"))
			p.write("p/out/made", "x")
		}, ""},
		"an ignored file that nobody reads": {func(p *place, _ func(string) string) { p.write("p/in/x.o", "2") }, ""},
		"it is written again by another name": {func(p *place, full func(string) string) {
			p.write("p/in/x.tmp.o", "2")
			_ = os.Rename(full("p/in/x.tmp.o"), full("p/in/old.o"))
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			p := &place{t: t, root: t.TempDir()}
			p.git("init", "-q")
			for name, text := range map[string]string{
				".gitignore": "*.o\nvendor/\nout/\n", "p/in/a": "1", "p/in/deep/x": "x", "p/in/old.o": "1", "p/vendor/v": "1", "p/out/made": "x",
			} {
				p.write(name, text)
			}
			ctx := context.Background()
			c2 := &Checkout{Root: p.root, Git: git.Repo{Dir: p.root}, Memory: NewMemory(p.root), Graph: g}
			first, err := c2.Snapshot(ctx)
			if err != nil {
				t.Fatal(err)
			}
			watch := func() Watched {
				snap, dirs, err := c2.Again(ctx, first, "p")
				if err != nil {
					t.Fatal(err)
				}
				paths, err := snap.PathsOf(g.Task("t@p"), Left{})
				if err != nil {
					t.Fatal(err)
				}
				return c2.Watch(ctx, paths, dirs)
			}
			p.tick()
			before := watch()
			c.does(p, func(name string) string { return filepath.Join(p.root, filepath.FromSlash(name)) })
			got := strings.Join(before.Changed(watch()), "; ")
			if c.says == "" && got != "" || !strings.Contains(got, c.says) {
				t.Errorf("%q, want %q", got, c.says)
			}
		})
	}
}

// A file that was changed a moment ago can change again within the same tick of the clock.
func TestFilesAreWatchedFromTheNextTickOn(t *testing.T) {
	p := &place{t: t, root: t.TempDir()}
	p.write("a", "1")
	c := &Checkout{Root: p.root}
	if c.Watch(context.Background(), []string{"a"}, nil).Unsettled() == 0 {
		t.Error("a file that has just been written is settled")
	}
	for range 50 {
		p.tick()
	}
	settled := func() bool { return c.Watch(context.Background(), []string{"a"}, nil).Unsettled() == 0 }
	for !settled() {
		p.tick()
	}
}

// An answer that is lost is not a no: what was learned with it is not used either.
func TestALostStateFileIsAskedAgain(t *testing.T) {
	for name, spoil := range map[string]func(file string, old []byte) error{
		"lost":           func(file string, _ []byte) error { return os.Remove(file) },
		"cut":            func(file string, _ []byte) error { return os.Truncate(file, 20) },
		"of another day": func(file string, old []byte) error { return os.WriteFile(file, old, 0o644) },
	} {
		t.Run(name, func(t *testing.T) {
			p := &place{t: t, root: t.TempDir()}
			p.git("init", "-q")
			p.write(".grayloft/.gitignore", "*\n")
			p.write("a", "1")
			p.git("add", "a")
			file := filepath.Join(p.root, ".grayloft", "ignored")
			look := func() {
				t.Helper()
				if _, err := p.settled().survey(context.Background()); err != nil {
					t.Fatal(err)
				}
			}
			look()
			old, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			p.write(".gitignore", "vendor/\n")
			p.write("vendor/v", "1")
			look()
			look()
			if err := spoil(file, old); err != nil {
				t.Fatal(err)
			}
			c := p.settled()
			if _, err := c.survey(context.Background()); err != nil {
				t.Fatal(err)
			}
			if !c.knownIgnored("vendor", true) {
				t.Error("that git ignores vendor is not known any more")
			}
		})
	}
}
