//go:build unix

package outputs

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/core/needle"
)

func TestTheCheckoutsPathIsFoundHoweverTheBytesArrive(t *testing.T) {
	const root = "/home/ada/skerry/"
	for text, want := range map[string]bool{
		strings.Repeat("x", 200) + root + "apps/web" + strings.Repeat("y", 200): true,
		root + "apps": true,
		strings.Repeat("x", 90) + root + "elsewhere" + strings.Repeat("y", 90): false,
		root[:len(root)-1]: false,
	} {
		for size := 1; size <= len(text); size++ {
			scan := &rootScan{root: needle.New(root), entries: map[string]bool{"apps": true}}
			for rest := text; rest != ""; {
				n := min(size, len(rest))
				if _, err := io.WriteString(scan, rest[:n]); err != nil {
					t.Fatal(err)
				}
				rest = rest[n:]
			}
			if scan.found != want {
				t.Fatalf("pieces of %d bytes of %q: %v", size, text, scan.found)
			}
		}
	}
}

func TestWhatReplacesAFileWhileItIsKeptIsNotRead(t *testing.T) {
	dir := t.TempDir()
	if err := errors.Join(os.Symlink("/etc/hostname", filepath.Join(dir, "link")), os.Mkdir(filepath.Join(dir, "dir"), 0o755),
		unix.Mkfifo(filepath.Join(dir, "pipe"), 0o600)); err != nil {
		t.Fatal(err)
	}
	in, err := os.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	for _, name := range []string{"link", "dir", "pipe"} {
		if _, err := openSource(in, name); !errors.Is(err, errReplaced) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
