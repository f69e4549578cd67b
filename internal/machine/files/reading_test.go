package files

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
)

func TestReadingIsAFileSystem(t *testing.T) {
	root := t.TempDir()
	texts := map[string]string{"empty": "", "a/small": "small", "a/b/as-much": strings.Repeat("x", 16<<10), "a/more": strings.Repeat("y", 16<<10+1)}
	var names []string
	for name, text := range texts {
		full := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		names = append(names, name)
	}
	fsys := Reading(root)
	if err := fstest.TestFS(fsys, names...); err != nil {
		t.Error(err)
	}
	var kept [][]byte
	for range 2 {
		for _, name := range names {
			text, err := fs.ReadFile(fsys, name)
			if err != nil || string(text) != texts[name] {
				t.Errorf("%s: %d bytes, %v", name, len(text), err)
			}
			kept = append(kept, text)
		}
	}
	for i, text := range kept { // none is in the buffer of another
		if string(text) != texts[names[i%len(names)]] {
			t.Errorf("%s changed", names[i%len(names)])
		}
	}
	for _, name := range []string{"no", "../a/small", "/a/small", "a"} {
		if _, err := fs.ReadFile(fsys, name); err == nil {
			t.Errorf("%s can be read", name)
		}
	}
}
