package beneath

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func TestAFolderIsNotReachedThroughALinkOrAFile(t *testing.T) {
	root := t.TempDir()
	for _, err := range []error{
		os.MkdirAll(filepath.Join(root, "a", "b", "c"), 0o755),
		os.WriteFile(filepath.Join(root, "a", "file"), nil, 0o644),
		os.Symlink("a", filepath.Join(root, "link")),
		os.Symlink("b", filepath.Join(root, "a", "inner")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	for dir, want := range map[string]error{
		"link": ErrNoDirectory, "link/b": ErrNoDirectory, "a/inner": ErrNoDirectory, "a/inner/c": ErrNoDirectory,
		"a/file": ErrNoDirectory, "a/file/x": ErrNoDirectory, "a/missing": fs.ErrNotExist, "a/missing/x": fs.ErrNotExist,
	} {
		if f, err := OpenFolder(root, dir); !errors.Is(err, want) {
			t.Errorf("%s as a folder: %v, %v", dir, f, err)
		}
		if f, err := OpenRoot(root, dir); !errors.Is(err, want) {
			t.Errorf("%s as a root: %v, %v", dir, f, err)
		}
	}
	f, err := OpenFolder(root, "a")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for name, want := range map[string]fs.FileMode{"b": fs.ModeDir, "file": 0, "inner": fs.ModeSymlink} {
		if have, err := f.Type(name); err != nil || have != want {
			t.Errorf("%s is %v, %v", name, have, err)
		}
	}
	if _, err := f.Type("missing"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a missing name: %v", err)
	}
	entries, err := f.Entries()
	var names []string
	for _, e := range entries {
		names = append(names, e.Name()+" "+e.Type().String()[:1])
	}
	slices.Sort(names)
	if got := strings.Join(names, ", "); err != nil || got != "b d, file -, inner L" {
		t.Errorf("%s, %v", got, err)
	}
}
