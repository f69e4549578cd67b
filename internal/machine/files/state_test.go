package files

import (
	"maps"
	"os"
	"path/filepath"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

func sampleMemory() map[string]remembered {
	return map[string]remembered{
		"a":               {stamp{1, 2, 3, 4, 5, 6}, 7, digest.Of([]byte("a"))},
		"dir/ünlikely\nb": {stamp{1 << 60, 2, -3, 0o100644, 1 << 60, 6}, -7, digest.Of([]byte("b"))},
	}
}

func TestDamagedStateIsIgnored(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "digests")
	m := NewMemory(dir)
	m.known, m.changed = sampleMemory(), true
	m.noteManifest(digest.Of([]byte("rows")), digest.Of([]byte("m")))
	if err := m.Save(file); err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	ok := NewMemory(dir)
	ok.Load(file)
	ok.load()
	if !maps.Equal(ok.known, m.known) || len(ok.manifests) != 1 {
		t.Fatalf("%v", ok.known)
	}
	for i := range whole {
		spoiled := append([]byte{}, whole...)
		spoiled[i] ^= 1
		for _, bad := range [][]byte{spoiled, whole[:i]} {
			if err := os.WriteFile(file, bad, 0o644); err != nil {
				t.Fatal(err)
			}
			n := NewMemory(dir)
			n.Load(file)
			n.load()
			if len(n.known) != 0 {
				t.Fatalf("byte %d: something was believed: %v", i, n.known)
			}
		}
	}
}
