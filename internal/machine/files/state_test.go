package files

import (
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

func sampleMemory() map[string]remembered {
	return map[string]remembered{
		"a":               {stamp{1, 2, 3, 4, 5, 6}, 7, digest.Of([]byte("a"))},
		"dir/ünlikely\nb": {stamp{1 << 60, 2, -3, 0o100644, 1 << 60, 6}, -7, digest.Of([]byte("b"))},
	}
}

func FuzzRememberedDigests(f *testing.F) {
	f.Add(encodeMemory(sampleMemory()))
	f.Add(encodeMemory(nil))
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x01})
	f.Fuzz(func(t *testing.T, body []byte) {
		known, ok := parseMemory(body)
		if !ok {
			return
		}
		if again, ok := parseMemory(encodeMemory(known)); !ok || !maps.Equal(known, again) {
			t.Errorf("%v became %v", known, again)
		}
	})
}

func FuzzRememberedDirectories(f *testing.F) {
	dir := f.TempDir()
	d := loadDirectories(filepath.Join(dir, "none"))
	d.note("a", stamp{1, 2, 3, 4, 5, 6}, 7, []string{"x", "y"})
	d.note("a/b", stamp{}, 0, nil)
	d.save(filepath.Join(dir, "directories"))
	f.Add(opened(directoriesHead, filepath.Join(dir, "directories")))
	f.Add([]byte("a\x00"))
	f.Fuzz(func(t *testing.T, body []byte) {
		file := filepath.Join(t.TempDir(), "directories")
		if err := os.WriteFile(file, sealed(directoriesHead, body), 0o644); err != nil {
			t.Fatal(err)
		}
		first := loadDirectories(file)
		for name, l := range first.known {
			first.note(name, l.st, l.taken, l.names)
		}
		first.save(file)
		if again := loadDirectories(file); len(first.known) > 0 && !reflect.DeepEqual(first.known, again.known) {
			t.Errorf("%v became %v", first.known, again.known)
		}
	})
}

func TestDamagedStateIsIgnored(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "digests")
	m := NewMemory(dir)
	m.known, m.changed = sampleMemory(), true
	m.noteManifest(rowSum{1, 2, 3}, digest.Of([]byte("m")))
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

func FuzzRememberedSurvey(f *testing.F) {
	r := &roster{files: 2, rules: []found{{".gitignore", stamp{1, 2, 3, 4, 5, 6}}}, repos: []string{"other"}, dirs: []rosterDir{
		{path: ".", names: []string{"b"}, ranks: []int{1}}, {path: "a", st: stamp{6, 5, 4, 3, 2, 1}, names: []string{"x"}, ranks: []int{0}}}}
	f.Add(r.encode([]byte("mark")))
	f.Add([]byte("\x00\x00\x00\x01\x01"))
	f.Fuzz(func(t *testing.T, body []byte) {
		mark, r, ok := parseRoster(body)
		if !ok {
			return
		}
		again, other, ok := parseRoster(r.encode([]byte(mark)))
		if !ok || again != mark || len(other.dirs) != len(r.dirs) || other.files != r.files {
			t.Errorf("%+v became %+v", r, other)
		}
	})
}
