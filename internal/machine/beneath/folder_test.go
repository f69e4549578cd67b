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
	for _, dir := range []string{"link", "link/b", "a/inner", "a/inner/c", "a/file", "a/missing", "a/file/x"} {
		if f, err := OpenFolder(root, dir); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: %v, %v", dir, f, err)
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
