package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
)

func write(t *testing.T, file, text string, age time.Duration) {
	t.Helper()
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	at := time.Now().Add(-age)
	if err := os.Chtimes(file, at, at); err != nil {
		t.Fatal(err)
	}
}

func TestDigestsAreRememberedOnlyWhileFilesAreUnchanged(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "a")
	m := NewMemory(dir)
	take := func(want string) {
		t.Helper()
		row, err := m.Row("a")
		if err != nil || row.Digest != digest.Of([]byte(want)) || row.Size != int64(len(want)) {
			t.Errorf("row %+v, %v; want that of %q", row, err, want)
		}
	}
	write(t, file, "one", time.Hour)
	take("one")
	// Same size, same modification time: the change time differs.
	info, err := os.Stat(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte("two"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(file, info.ModTime(), info.ModTime()); err != nil {
		t.Fatal(err)
	}
	take("two")
	// Replaced by another file of the same size and time.
	other := filepath.Join(dir, "b")
	write(t, other, "xxx", time.Hour)
	if err := os.Rename(other, file); err != nil {
		t.Fatal(err)
	}
	take("xxx")
	if err := os.Chmod(file, 0o755); err != nil {
		t.Fatal(err)
	}
	if row, err := m.Row("a"); err != nil || row.Kind != listing.Executable {
		t.Errorf("an executable is %+v, %v", row, err)
	}
}

func TestAFreshDigestIsNotTrusted(t *testing.T) {
	now := time.Now().UnixNano()/1e9*1e9 + 5e8 // not on a whole second
	for _, c := range []struct {
		what         string
		mtime, taken int64
		want         bool
	}{
		{"long before", now - int64(time.Minute), now, true},
		{"25 ms before", now - int64(25*time.Millisecond), now, true},
		{"10 ms before", now - int64(10*time.Millisecond), now, false},
		{"after", now + int64(time.Second), now, false},
		{"a whole second, 1.5 s before", (now / 1e9 * 1e9) - 1e9, now, false},
		{"a whole second, 3.5 s before", (now / 1e9 * 1e9) - 3e9, now, true},
	} {
		r := remembered{Stamp: stamp{Mtime: c.mtime, Ctime: now - int64(time.Minute) + 1}, Taken: c.taken}
		if got := r.safe(); got != c.want {
			t.Errorf("%s: trusted %v, want %v", c.what, got, c.want)
		}
	}
}

func TestNonRegularFiles(t *testing.T) {
	dir := t.TempDir()
	m := NewMemory(dir)
	if err := os.Symlink("to nowhere", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	if row, err := m.Row("link"); err != nil || row.Kind != listing.Link || row.Target != "to nowhere" || row.Size != 10 {
		t.Errorf("%+v, %v", row, err)
	}
	for _, p := range []string{".", "none", "link/below"} {
		if _, err := m.Row(p); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: %v", p, err)
		}
	}
}

func TestMemoryIsKeptBetweenRunsAndDamageIsIgnored(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a"), "one", time.Hour)
	m := NewMemory(dir)
	if _, err := m.Row("a"); err != nil {
		t.Fatal(err)
	}
	kept := filepath.Join(t.TempDir(), "digests")
	if err := m.Save(kept); err != nil {
		t.Fatal(err)
	}
	again := NewMemory(dir)
	again.Load(kept)
	again.load()
	if len(again.known) != 1 {
		t.Errorf("%d digests came back", len(again.known))
	}
	data, err := os.ReadFile(kept)
	if err != nil {
		t.Fatal(err)
	}
	for at := 0; at < len(data); at += 7 {
		bad := append([]byte{}, data...)
		bad[at] ^= 0x10
		if err := os.WriteFile(kept, bad, 0o644); err != nil {
			t.Fatal(err)
		}
		damaged := NewMemory(dir)
		damaged.Load(kept)
		damaged.load()
		if len(damaged.known) != 0 {
			t.Fatalf("with byte %d damaged it was believed", at)
		}
	}
}

func TestANotedDigestCountsOnlyIfAChangeWouldShow(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "a")
	write(t, file, "one", 0)
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	st := StatusOf(int(f.Fd()))
	if st == (Status{}) {
		t.Skip("this system has no status that can be trusted")
	}
	said, read := digest.Of([]byte("what was said")), digest.Of([]byte("one"))
	for _, c := range []struct {
		after time.Duration // the time of the file
		want  digest.Digest
	}{{0, read}, {15 * time.Millisecond, read}, {5 * time.Second, said}} {
		m := NewMemory(dir)
		m.Note(time.Unix(0, st.of.Ctime).Add(c.after), Noted{"a", st, said})
		if row, err := m.Row("a"); err != nil || row.Digest != c.want {
			t.Errorf("noted %s after the file was written: %s, %v; want %s", c.after, row.Digest.Short(), err, c.want.Short())
		}
	}
	m := NewMemory(dir)
	m.Note(time.Unix(0, st.of.Ctime).Add(5*time.Second), Noted{"a", st, said})
	write(t, file, "two", 0)
	if row, err := m.Row("a"); err != nil || row.Digest != digest.Of([]byte("two")) {
		t.Errorf("a digest was noted and the file changed: %v", err)
	}
	saved := filepath.Join(t.TempDir(), "digests")
	m.Load(saved) // what was remembered before is kept
	m.Note(time.Unix(0, st.of.Ctime).Add(5*time.Second), Noted{"b", st, said})
	if err := m.Save(saved); err != nil {
		t.Fatal(err)
	}
	next := NewMemory(dir)
	next.Load(saved)
	next.Note(time.Unix(0, st.of.Ctime).Add(5*time.Second), Noted{"c", st, said})
	if _, ok := next.known["b"]; !ok {
		t.Error("noting a digest made the memory forget others")
	}
}
