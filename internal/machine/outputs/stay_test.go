//go:build unix

package outputs

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
)

// older gives files a time of long ago, and returns their statuses.
func (p *place) older(names ...string) map[string]os.FileInfo {
	p.t.Helper()
	then, out := time.Now().Add(-48*time.Hour), map[string]os.FileInfo{}
	for _, name := range names {
		full := filepath.Join(p.root, name)
		if err := os.Chtimes(full, then, then); err != nil {
			p.t.Fatal(err)
		}
		info, err := os.Lstat(full)
		if err != nil {
			p.t.Fatal(err)
		}
		out[name] = info
	}
	return out
}

func TestFilesThatAreRightStayAndGetThePresentTime(t *testing.T) {
	p := newPlace(t)
	names := []string{"p/gen/same", "p/gen/deep/same", "p/gen/changed", "p/gen/mode", "p/gen/twice", "p/note"}
	for _, name := range names {
		p.write(name, "right: "+name)
	}
	if err := os.Symlink("same", filepath.Join(p.root, "p/gen/link")); err != nil {
		t.Fatal(err)
	}
	list := p.keep()
	p.write("p/gen/changed", "another result")
	p.write("p/gen/more", "of another result")
	last := p.keep()
	p.write("p/gen/stray", "somebody's")
	if err := os.Chmod(filepath.Join(p.root, "p/gen/mode"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Link(filepath.Join(p.root, "p/gen/twice"), filepath.Join(p.root, "p/second")); err != nil {
		t.Fatal(err)
	}
	p.track("p/note")
	before := p.older(names...)
	began := time.Now().Add(-time.Second)
	if err := p.out.Restore(t.Context(), list, last); err != nil {
		t.Fatal(err)
	}
	if right, err := p.out.Right(t.Context(), list); err != nil || !right || p.read("p/gen/more") != "-" {
		t.Errorf("what was restored is not right: %v", err)
	}
	if p.read(".grayloft/displaced/run1/p/gen/stray") != "somebody's" || len(p.said) != 1 {
		t.Errorf("the file that nobody knows is not set aside, or others are: said %q", p.said)
	}
	stay := map[string]bool{"p/gen/same": true, "p/gen/deep/same": true, "p/note": true}
	for _, name := range names {
		info, err := os.Lstat(filepath.Join(p.root, name))
		if err != nil {
			t.Error(err)
			continue
		}
		if os.SameFile(info, before[name]) != stay[name] {
			t.Errorf("%s: it is the same file: %v", name, !stay[name])
		}
		if info.ModTime().Before(began) || info.Mode().Perm() != 0o644 {
			t.Errorf("%s has the time %s and the mode %v", name, info.ModTime(), info.Mode())
		}
	}
	if info, err := os.Lstat(filepath.Join(p.root, "p/second")); err != nil || !info.ModTime().Equal(before["p/gen/twice"].ModTime()) {
		t.Errorf("the second name of an output was touched: %v", err)
	}
}

func TestAFileThatArrivesReplacesTheSameOneOnTheDisk(t *testing.T) {
	p := newPlace(t)
	p.write("p/gen/a", "a")
	list := p.keep()
	r := p.begin(list)
	r.Arrived(digest.Of([]byte("a")), []byte("a"))
	if err := r.Finish(t.Context(), nil); err != nil || p.read("p/gen/a") != "a" || len(p.said) > 0 {
		t.Errorf("%v; said %q", err, p.said)
	}
}

func TestAFileThatChangesWhileOutputsAreRestoredIsNoticed(t *testing.T) {
	for what, change := range map[string]func(p *place){
		"rewritten": func(p *place) { p.write("p/gen/deep/b", "somebody's") },
		"replaced by its equal": func(p *place) {
			os.Remove(filepath.Join(p.root, "p/gen/deep/b"))
			p.write("p/gen/deep/b", "b")
		},
		"gone": func(p *place) { os.RemoveAll(filepath.Join(p.root, "p/gen/deep")) },
	} {
		p := newPlace(t)
		p.write("p/gen/deep/b", "b")
		list := p.keep()
		p.older("p/gen/deep/b")
		r := p.begin(list)
		if _, stays, err := r.compare(); err != nil || !stays["gen/deep/b"] {
			t.Fatal(stays, err)
		}
		change(p)
		now := p.read("p/gen/deep/b")
		if err := r.touch(); err == nil || what != "gone" && !errors.Is(err, errMoved) {
			t.Errorf("%s: %v", what, err)
		}
		if p.read("p/gen/deep/b") != now {
			t.Errorf("%s: what somebody wrote is lost", what)
		}
	}
}

func TestALinkInPlaceOfADirectoryIsNotTouchedThrough(t *testing.T) {
	p := newPlace(t)
	p.write("p/gen/deep/b", "b")
	list := p.keep()
	outside := t.TempDir()
	if err := os.Rename(filepath.Join(p.root, "p/gen/deep"), filepath.Join(outside, "deep")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(outside, "deep"), filepath.Join(p.root, "p/gen/deep")); err != nil {
		t.Fatal(err)
	}
	then := time.Now().Add(-48 * time.Hour).Truncate(time.Second)
	if err := os.Chtimes(filepath.Join(outside, "deep/b"), then, then); err != nil {
		t.Fatal(err)
	}
	if err := p.out.Restore(t.Context(), list, listing.List{}); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Lstat(filepath.Join(outside, "deep/b")); err != nil || !info.ModTime().Equal(then) {
		t.Errorf("a file outside of the checkout was touched: %v", err)
	}
	if info, err := os.Lstat(filepath.Join(p.root, "p/gen/deep")); err != nil || !info.IsDir() || p.read("p/gen/deep/b") != "b" {
		t.Errorf("not restored: %v", err)
	}
}

// settle waits until a change would show in the times of the files that were written before.
func settle() { time.Sleep(50 * time.Millisecond) }

func TestWhatWasKeptOrRestoredNeedNotBeReadAgain(t *testing.T) {
	p := newPlace(t)
	remembers := func() bool {
		file := filepath.Join(t.TempDir(), "digests")
		if err := p.out.Files.Memory.Save(file); err != nil {
			t.Fatal(err)
		}
		_, err := os.Stat(file)
		return err == nil
	}
	p.write("p/gen/deep/a", "right")
	list := p.keep()
	if remembers() {
		t.Error("a digest is remembered though a change at the same time would not show")
	}
	settle()
	p.keep()
	if !remembers() {
		t.Error("nothing is remembered of the files that were kept")
	}
	if err := p.out.Clear(t.Context(), list); err != nil {
		t.Fatal(err)
	}
	r := p.begin(list)
	r.Arrived(digest.Of([]byte("right")), []byte("wrong")) // a caller who is wrong, so that reading would show
	settle()
	if err := r.Finish(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	if row, err := p.out.Files.Memory.Row("p/gen/deep/a"); err != nil || row.Digest != digest.Of([]byte("right")) {
		t.Errorf("the file that was restored was read again: %v", err)
	}
	p.write("p/gen/deep/a", "other")
	if right, err := p.out.Right(t.Context(), list); err != nil || right {
		t.Errorf("a change after the files were restored does not show: %v", err)
	}
}
