package outputs

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/machine/beneath"
	"grayloft.example/grayloft/internal/machine/checkout"
)

func (p *place) commit() {
	p.t.Helper()
	cmd := exec.Command("git", "-C", p.root, "-c", "user.name=t", "-c", "user.email=t@t.example", "commit", "-qm", "x")
	if out, err := cmd.CombinedOutput(); err != nil {
		p.t.Fatal(err, string(out))
	}
}

func (p *place) must(err error) {
	p.t.Helper()
	if err != nil {
		p.t.Fatal(err)
	}
}

// What becomes of a tracked file among outputs that somebody edited, by whether the task writes it.
func TestEditedTrackedOutputsAreNeverLost(t *testing.T) {
	ctx := context.Background()
	for name, c := range map[string]struct {
		edited, written      bool
		there, displacedText string
	}{
		"as git has it, not written": {false, false, "committed", "-"},
		"as git has it, written":     {false, true, "made", "-"},
		"edited, not written":        {true, false, "by hand", "-"},
		"edited, written":            {true, true, "made", "by hand"},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.write("p/gen/page", "committed")
			p.track("p/gen/page")
			p.commit()
			if c.edited {
				p.write("p/gen/page", "by hand")
			}
			p.must(p.out.Clear(ctx, nil))
			if p.read("p/gen/page") != "-" {
				t.Error("it is still there while the task runs")
			}
			if c.written {
				p.write("p/gen/page", "made")
			}
			p.must(p.out.PutBack())
			if got := p.read("p/gen/page"); got != c.there {
				t.Errorf("afterwards: %q, want %q", got, c.there)
			}
			if got := p.read(".grayloft/displaced/run1/p/gen/page"); got != c.displacedText {
				t.Errorf("displaced: %q, want %q", got, c.displacedText)
			}
			if said := strings.Join(p.said, " "); (c.displacedText != "-") != strings.Contains(said, "p/gen/page") {
				t.Errorf("said: %s", said)
			}
		})
	}
}

// A retry begins as the first attempt did: what that one wrote in the place of a tracked file is gone,
// and the file comes back if the next one does not write it.
func TestARetryBeginsAsTheFirstAttempt(t *testing.T) {
	ctx := context.Background()
	p := newPlace(t)
	p.write("p/gen/page", "committed")
	p.track("p/gen/page")
	p.commit()
	p.must(p.out.Clear(ctx, nil))
	p.write("p/gen/page", "half")
	p.write("p/gen/deep/more", "half")
	p.must(unix.Mkfifo(filepath.Join(p.root, "p/gen/pipe"), 0o644))
	p.must(p.out.ClearAttempt())
	if found, special, err := p.out.search(p.out.Task.Writes); len(found)+len(special) > 0 || err != nil {
		t.Errorf("left for the next attempt: %v %v, %v", found, special, err)
	}
	p.must(p.out.PutBack())
	if got := p.read("p/gen/page"); got != "committed" {
		t.Errorf("afterwards: %q", got)
	}
}

// Whoever comes next puts back what a killed run had set aside, and nobody does while the task runs.
func TestWhoeverComesNextPutsFilesBack(t *testing.T) {
	ctx := context.Background()
	p := newPlace(t)
	for _, name := range []string{"p/gen/page", "p/gen/deep/other"} {
		p.write(name, "committed")
		p.track(name)
	}
	p.commit()
	unlock, _, err := p.out.State.Lock(ctx, p.out.Task.Addr())
	p.must(err)
	p.must(p.out.Clear(ctx, nil))
	p.write("p/gen/page", "half")
	p.must(PutBackAll(p.root))
	if got := p.read("p/gen/deep/other"); got != "-" {
		t.Errorf("put back while the task runs: %q", got)
	}
	unlock() // it was killed
	p.must(PutBackAll(p.root))
	for _, name := range []string{"p/gen/page", "p/gen/deep/other"} {
		if got := p.read(name); got != "committed" {
			t.Errorf("%s: %q", name, got)
		}
	}
	if list, err := os.ReadDir(filepath.Join(p.root, checkout.Dir, "aside")); err != nil || len(list) != 0 {
		t.Errorf("left aside: %v, %v", list, err)
	}
}

// What a listing cannot say is an error, never an empty listing.
func TestWhatCannotBeKeptIsAnError(t *testing.T) {
	for name, c := range map[string]struct {
		make func(p *place)
		says string
	}{
		"a pipe":           {func(p *place) { p.must(unix.Mkfifo(filepath.Join(p.root, "p/gen/pipe"), 0o644)) }, "a device, a pipe or a socket"},
		"an absolute link": {func(p *place) { p.must(os.Symlink("/etc/hostname", filepath.Join(p.root, "p/gen/l"))) }, "absolute path"},
		"a link out":       {func(p *place) { p.must(os.Symlink("../../../x", filepath.Join(p.root, "p/gen/l"))) }, "leads out"},
		"names that fold":  {func(p *place) { p.write("p/gen/README", "1"); p.write("p/gen/readme", "2") }, "same name"},
		"a repository":     {func(p *place) { p.write("p/gen/sub/.git/config", "x") }, "a name that is reserved"},
		"a name not UTF-8": {func(p *place) { p.write("p/gen/\xff", "x") }, "UTF-8"},
		"a link in its path": {func(p *place) {
			p.must(os.RemoveAll(filepath.Join(p.root, "p/gen")))
			p.must(os.Symlink(p.root, filepath.Join(p.root, "p/gen")))
		}, beneath.ErrNoDirectory.Error()},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.write("p/gen/a", "a")
			c.make(p)
			kept, err := p.out.Keep(nil)
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v, %v", kept.List, err)
			}
			if right, err := p.out.Right(context.Background(), nil); right || err != nil {
				t.Errorf("it is taken for no outputs: %v", err)
			}
			own := p.out.Now()
			p.must(p.out.Clear(context.Background(), own))
			if found, err := p.out.Found(); len(found) > 0 || err != nil {
				t.Errorf("the next run begins with %v, %v", found, err)
			}
		})
	}
}
