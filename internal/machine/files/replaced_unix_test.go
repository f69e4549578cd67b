//go:build linux || darwin

package files

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
)

// What was a file when the checkout was looked at can be something else when it is read.
func TestAFileThatWasReplacedIsReadAsWhatItIs(t *testing.T) {
	root := t.TempDir()
	full := filepath.Join(root, "a")
	replace := map[string]func() error{
		"by a link":      func() error { return os.Symlink("elsewhere", full) },
		"by a directory": func() error { return os.Mkdir(full, 0o755) },
		"by a pipe":      func() error { return syscall.Mkfifo(full, 0o644) },
		"by a program":   func() error { return os.WriteFile(full, []byte("new"), 0o755) },
		"by nothing":     func() error { return nil },
	}
	for how, with := range replace {
		t.Run(how, func(t *testing.T) {
			m := NewMemory(root)
			if err := os.WriteFile(full, []byte("old"), 0o644); err != nil {
				t.Fatal(err)
			}
			defer os.RemoveAll(full)
			info, err := os.Lstat(full)
			if err != nil {
				t.Fatal(err)
			}
			st, _ := stampOf(info)
			if row, err := m.rowAt("a", st); err != nil || row.Kind != listing.File || row.Digest != digest.Of([]byte("old")) {
				t.Fatalf("%+v, %v", row, err)
			}
			if err := errors.Join(os.Remove(full), with()); err != nil {
				t.Fatal(err)
			}
			got, gotErr := NewMemory(root).rowAt("a", st)
			want, wantErr := NewMemory(root).Row("a")
			if wantErr == nil && got != want || fmt.Sprint(gotErr) != fmt.Sprint(wantErr) {
				t.Errorf("%+v, %v; want %+v, %v", got, gotErr, want, wantErr)
			}
		})
	}
}
