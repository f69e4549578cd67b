package files

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A manifest can be anything: a link to a device is not read for ever, and nothing outside is read.
func TestReadingStaysInTheRootAndIsBounded(t *testing.T) {
	root := t.TempDir()
	outside := filepath.Join(t.TempDir(), "secret")
	for _, err := range []error{
		os.WriteFile(outside, []byte("secret"), 0o644),
		os.WriteFile(filepath.Join(root, "small"), []byte("small"), 0o644),
		os.WriteFile(filepath.Join(root, "medium"), []byte(strings.Repeat("m", 3*firstRead)), 0o644),
		os.Symlink("small", filepath.Join(root, "inside")),
		os.Symlink(outside, filepath.Join(root, "out")),
		os.Symlink("/dev/zero", filepath.Join(root, "device")),
		os.WriteFile(filepath.Join(root, "huge"), nil, 0o644),
		os.Truncate(filepath.Join(root, "huge"), MaxRead+1),
		os.Mkdir(filepath.Join(root, "dir"), 0o755),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	fsys := Reading(root)
	for name, size := range map[string]int{"small": 5, "medium": 3 * firstRead, "inside": 5, "out": -1, "device": -1, "huge": -1, "dir": -1, "../x": -1} {
		text, err := fs.ReadFile(fsys, name)
		if (err == nil) != (size >= 0) || err == nil && len(text) != size {
			t.Errorf("%s: %d bytes, %v", name, len(text), err)
		}
	}
	for _, name := range []string{"out", "device"} {
		if f, err := fsys.Open(name); err == nil {
			f.Close()
			t.Errorf("%s was opened", name)
		}
	}
}
