//go:build unix

package outputs

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
)

func TestFilesAreWrittenWhileTheyArrive(t *testing.T) {
	p := newPlace(t)
	for name, text := range map[string]string{"p/gen/a": "a", "p/gen/deep/b": "b", "p/gen/deep/same": "b", "p/gen/c": "c"} {
		p.write(name, text)
	}
	list := p.keep()
	if err := p.out.Clear(t.Context(), list); err != nil {
		t.Fatal(err)
	}
	r := p.begin(list)
	r.Arrived(digest.Of([]byte("b")), []byte("b"))
	r.Arrived(digest.Of([]byte("c")), []byte("longer than the listing says"))
	r.Arrived(digest.Of([]byte("never asked for")), []byte("never asked for"))
	if p.read("p/gen/deep/b") != "-" {
		t.Error("a file is in its place before all are there")
	}
	if err := r.Finish(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	if right, err := p.out.Right(t.Context(), list); err != nil || !right || p.read("p/gen/deep/same") != "b" {
		t.Errorf("what was restored is not right: %v", err)
	}
	r.Drop()
	if left, _ := filepath.Glob(filepath.Join(p.root, checkout.Dir, "staged", "*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestDirectoriesThatAreThereStayAndGetWhatIsRestored(t *testing.T) {
	p := newPlace(t)
	for name, text := range map[string]string{"p/gen/a": "a", "p/gen/deep/er/b": "b", "p/gen/inner/own": "another project's"} {
		p.write(name, text)
	}
	if err := os.Mkdir(filepath.Join(p.root, "p/gen/empty"), 0o755); err != nil {
		t.Fatal(err)
	}
	list := p.keep()
	for _, last := range []listing.List{list, nil} { // cleared before, and in place
		if last != nil {
			if err := p.out.Clear(t.Context(), last); err != nil {
				t.Fatal(err)
			}
		}
		if err := p.out.Restore(t.Context(), list, nil); err != nil {
			t.Fatal(err)
		}
		if right, err := p.out.Right(t.Context(), list); err != nil || !right || p.read("p/gen/inner/own") != "another project's" {
			t.Errorf("what was restored is not right: %v", err)
		}
	}
	// What came into the way after the outputs were cleared is neither overwritten nor followed.
	r := p.begin(list)
	if err := r.stage(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := p.out.Clear(t.Context(), list); err != nil {
		t.Fatal(err)
	}
	outside := t.TempDir()
	if err := os.Symlink(outside, filepath.Join(p.root, "p/gen/deep")); err != nil {
		t.Fatal(err)
	}
	if err := r.put(); !errors.Is(err, ErrRefused) {
		t.Errorf("a link in the way of a directory: %v", err)
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Errorf("written through a link: %v", left)
	}
}

// It is not parallel to other tests: the mask is the process's.
func TestTheModesOfRestoredFilesDoNotDependOnTheMask(t *testing.T) {
	p := newPlace(t)
	p.write("p/gen/a", "a")
	p.write("p/gen/tool", "#!/bin/sh\n")
	if err := os.Chmod(filepath.Join(p.root, "p/gen/tool"), 0o755); err != nil {
		t.Fatal(err)
	}
	list := p.keep()
	defer unix.Umask(unix.Umask(0o077))
	if err := p.out.Clear(t.Context(), list); err != nil {
		t.Fatal(err)
	}
	if err := p.out.Restore(context.Background(), list, nil); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]os.FileMode{"p/gen/a": 0o644, "p/gen/tool": 0o755} {
		if info, err := os.Stat(filepath.Join(p.root, name)); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s: %v, %v", name, info.Mode(), err)
		}
	}
}
