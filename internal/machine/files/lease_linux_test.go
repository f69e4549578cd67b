package files

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// A second write to a page that is mapped and already dirty changes neither mtime nor ctime. A digest
// that was taken between the two must not be remembered.
func TestAFileThatIsMappedForWritingIsReadAgain(t *testing.T) {
	root := t.TempDir()
	full := filepath.Join(root, "a")
	if err := os.WriteFile(full, []byte("first "), 0o644); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(full, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	page, err := unix.Mmap(int(f.Fd()), 0, 6, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	copy(page, "second")
	old := time.Now().Add(-time.Hour)
	if err := os.Chtimes(full, old, old); err != nil {
		t.Fatal(err)
	}
	memory := NewMemory(root)
	settled := func() bool { return StatusMust(t, full).SettledBefore(time.Now()) }
	for end := time.Now().Add(time.Minute); !settled() && time.Now().Before(end); {
		time.Sleep(time.Millisecond)
	}
	before, err := memory.Row("a")
	if err != nil {
		t.Fatal(err)
	}
	copy(page, "third ")
	after, err := memory.Row("a")
	if err != nil || after == before {
		t.Errorf("%v is still %v, %v", before, after, err)
	}
	if err := unix.Munmap(page); err != nil {
		t.Fatal(err)
	}
	if _, err := memory.Row("a"); err != nil {
		t.Fatal(err)
	}
	memory.mu.Lock()
	defer memory.mu.Unlock()
	if len(memory.known) != 1 {
		t.Error("a file that nobody writes any more is not remembered")
	}
}

// StatusMust returns the status of a file.
func StatusMust(t *testing.T, full string) Status {
	t.Helper()
	st, err := statusOf(full)
	if err != nil {
		t.Fatal(err)
	}
	return Status{st}
}
