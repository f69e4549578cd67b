package store

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// A result that turned out to be wrong is withdrawn: its listing is never offered again under its key,
// wherever it comes from. The cache keeps, in a file for each key in withdrawn/, one digest per line
// with a checksum.

// withdrawnKept is for how many keys withdrawn listings are remembered.
const withdrawnKept = 10_000

func (s *Store) withdrawnDir() string { return filepath.Join(s.dir, "withdrawn") }

func (s *Store) withdrawnFile(k digest.Digest) string {
	return filepath.Join(s.withdrawnDir(), k.String())
}

// Withdraw withdraws a listing under a key.
func (s *Store) Withdraw(k, list digest.Digest) error {
	known := s.withdrawn(k)
	if slices.Contains(known, list) {
		return nil
	}
	var text []byte
	for _, d := range append(known, list) {
		text = append(text, d.String()+"\n"...)
	}
	// The file is a new one each time: the directory's status shows it.
	return s.writeFile(s.withdrawnFile(k), statefile.SealLine(text[:len(text)-1]))
}

func (s *Store) withdrawn(k digest.Digest) (out []digest.Digest) {
	data, err := os.ReadFile(s.withdrawnFile(k))
	if err != nil {
		return nil
	}
	text, _ := statefile.OpenLine(data)
	for line := range bytes.SplitSeq(text, []byte("\n")) {
		if d, err := digest.ParseText(line); err == nil {
			out = append(out, d)
		}
	}
	return out
}

// IsWithdrawn tells whether a listing was withdrawn under a key.
func (s *Store) IsWithdrawn(k, list digest.Digest) bool { return slices.Contains(s.withdrawn(k), list) }

// Withdrawals returns a text that changes whenever something is withdrawn.
func (s *Store) Withdrawals() string {
	info, err := os.Stat(s.withdrawnDir())
	if err != nil {
		return ""
	}
	return info.ModTime().Format(time.RFC3339Nano)
}

// trimWithdrawn forgets the oldest withdrawals beyond a number.
func (s *Store) trimWithdrawn(most int) error {
	list, err := os.ReadDir(s.withdrawnDir())
	if errors.Is(err, fs.ErrNotExist) || len(list) <= most {
		return nil
	}
	at := func(e fs.DirEntry) time.Time {
		info, err := e.Info()
		if err != nil {
			return time.Time{}
		}
		return info.ModTime()
	}
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return at(a).Compare(at(b)) })
	for _, e := range list[:len(list)-most] {
		err = errors.Join(err, os.Remove(filepath.Join(s.withdrawnDir(), e.Name())))
	}
	return err
}
