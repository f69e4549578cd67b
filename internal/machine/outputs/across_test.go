//go:build linux

package outputs

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// mounted makes a directory of the place a file system of its own.
func (p *place) mounted(name string) {
	p.t.Helper()
	at := filepath.Join(p.root, name)
	if err := os.MkdirAll(at, 0o755); err != nil {
		p.t.Fatal(err)
	}
	if err := unix.Mount("tmpfs", at, "tmpfs", 0, "size=8m"); errors.Is(err, unix.EPERM) {
		p.t.Skip("only root may mount a file system")
	} else if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() {
		if err := unix.Unmount(at, unix.MNT_DETACH); err != nil {
			p.t.Error(err)
		}
	})
}

// A directory of outputs is a volume of a container: nothing can be renamed into it or out of it.
func TestOutputsOnAMountOfTheirOwn(t *testing.T) {
	p := newPlace(t)
	p.mounted("p/gen")
	names := []string{"p/gen/a", "p/gen/deep/er/b", "p/note"}
	for _, name := range names {
		p.write(name, "first: "+name)
	}
	if err := errors.Join(
		os.Chmod(filepath.Join(p.root, "p/gen/a"), 0o755),
		os.Symlink("deep/er/b", filepath.Join(p.root, "p/gen/link")),
		os.Mkdir(filepath.Join(p.root, "p/gen/empty"), 0o755),
	); err != nil {
		t.Fatal(err)
	}
	list := p.keep()
	p.write("p/gen/a", "second")
	p.write("p/gen/more", "of the second")
	last := p.keep()
	p.write("p/gen/stray", "somebody's")
	p.write("p/gen/deep/er/tracked", "in git")
	p.track("p/gen/deep/er/tracked")
	then := time.Now().Add(-time.Hour).Truncate(time.Second)
	if err := os.Chtimes(filepath.Join(p.root, "p/gen/stray"), then, then); err != nil {
		t.Fatal(err)
	}

	if err := p.out.Clear(t.Context(), last); err != nil {
		t.Fatal(err)
	}
	stray := filepath.Join(".grayloft/displaced/run1", "p/gen/stray")
	if info, err := os.Stat(filepath.Join(p.root, stray)); err != nil || !info.ModTime().Equal(then) || p.read(stray) != "somebody's" {
		t.Errorf("the displaced file: %v, %v, %q", info, err, p.read(stray))
	}
	if found, err := p.out.Found(); err != nil || len(found) > 0 {
		t.Errorf("after clearing: %v, %v", found, err)
	}
	if err := p.out.Restore(t.Context(), list, nil); err != nil {
		t.Fatal(err)
	}
	if right, err := p.out.Right(t.Context(), list); err != nil || !right || p.read("p/gen/deep/er/tracked") != "in git" {
		t.Errorf("after restoring: right %v, %v; the file that git tracks: %q", right, err, p.read("p/gen/deep/er/tracked"))
	}
	if left, _ := filepath.Glob(filepath.Join(p.root, "p/gen/.grayloft-*")); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
	if err := p.out.Clear(t.Context(), list); err != nil {
		t.Errorf("the mount cannot be removed, and yet: %v", err)
	}
}

func TestAFileThatDoesNotFitOnItsMountIsNotLost(t *testing.T) {
	p := newPlace(t)
	text := strings.Repeat("x", 9<<20)
	p.write("p/gen/large", text)
	list := p.keep()
	p.mounted("p/gen")
	if err := p.out.Restore(t.Context(), list, nil); !errors.Is(err, unix.ENOSPC) {
		t.Errorf("%v", err)
	}
	if found, err := p.out.Found(); err != nil || len(found) > 0 {
		t.Errorf("part of a file is left: %v, %v", found, err)
	}
}

func TestAFileThatChangesWhileItIsCarriedStays(t *testing.T) {
	p := newPlace(t)
	p.write("here/a", "before")
	p.mounted("there")
	top, err := os.OpenRoot(p.root)
	if err != nil {
		t.Fatal(err)
	}
	defer top.Close()
	info, err := top.Lstat("here/a")
	if err != nil {
		t.Fatal(err)
	}
	p.write("here/a", "after it was looked at")
	if err := copyFile(top, "here/a", top, "there/a", info); err == nil || !strings.Contains(err.Error(), "here/a changed") {
		t.Errorf("%v", err)
	}
	if p.read("here/a") != "after it was looked at" {
		t.Error("the file is lost")
	}
}
