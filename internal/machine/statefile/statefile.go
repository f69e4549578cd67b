// Package statefile reads and writes the files in which facts about a checkout
// are remembered between runs: digests, names, fingerprints. Such a file may be
// lost at any time; one that is damaged, incomplete or of another version is
// treated as missing.
//
// # Format
//
// The line "grayloft-NAME VERSION", the BLAKE3 digest of the rest (32 bytes),
// and the rest, which each [Format] describes in terms of [Writer] and [Reader].
//
// Text files with one record per line use [SealLine] and [OpenLine] instead.
package statefile

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
)

// Format describes the contents of one kind of file.
type Format[T any] struct {
	Name    string
	Version int
	Encode  func(*Writer, T)
	// Decode reads what Encode wrote. It may return anything after a failure of
	// the reader.
	Decode func(*Reader) T
}

func (f Format[T]) head() string { return fmt.Sprintf("grayloft-%s %d\n", f.Name, f.Version) }

// Save replaces the file.
func (f Format[T]) Save(file string, v T) error {
	w := NewWriter(0)
	f.Encode(w, v)
	sum := digest.Of(w.b)
	return Write(file, append(append([]byte(f.head()), sum[:]...), w.b...))
}

// Load reads the file; ok is false if it is missing, damaged or of another
// version.
func (f Format[T]) Load(file string) (v T, ok bool) {
	body, ok := f.body(file)
	if !ok {
		return v, false
	}
	return f.decode(body)
}

// body reads a file and returns what follows its head, if that has the digest that the head says.
// It is in memory once: these files are most of what a run with nothing to do reads.
func (f Format[T]) body(file string) (string, bool) {
	in, err := os.Open(file)
	if err != nil {
		return "", false
	}
	defer in.Close()
	want := f.head()
	head := make([]byte, len(want)+digest.Size)
	if _, err := io.ReadFull(in, head); err != nil || string(head[:len(want)]) != want {
		return "", false
	}
	var body strings.Builder
	if info, err := in.Stat(); err == nil && info.Mode().IsRegular() {
		body.Grow(max(0, int(info.Size())-len(head)))
	}
	sum := digest.New()
	if _, err := io.Copy(io.MultiWriter(&body, sum), in); err != nil || digest.From(sum) != digest.Digest(head[len(want):]) {
		return "", false
	}
	return body.String(), true
}

func (f Format[T]) decode(body string) (v T, ok bool) {
	r := NewReader(body)
	out := f.Decode(r)
	if !r.Done() {
		return v, false
	}
	return out, true
}

// roundTrip checks that whatever the format accepts can be written and read
// again.
func (f Format[T]) roundTrip(body []byte) error {
	v, ok := f.decode(string(body))
	if !ok {
		return nil
	}
	first := NewWriter(0)
	f.Encode(first, v)
	again, ok := f.decode(string(first.b))
	if !ok {
		return fmt.Errorf("%s: %v was written and cannot be read", f.Name, v)
	}
	second := NewWriter(0)
	f.Encode(second, again)
	if len(first.b) != len(second.b) {
		return fmt.Errorf("%s: %v became %v", f.Name, v, again)
	}
	return nil
}

// registered are the formats of the program, for the fuzz target.
var registered = map[string]func(body []byte) error{}

// Register adds a format to those that the fuzz target tests, and returns it.
func Register[T any](f Format[T]) Format[T] {
	registered[f.Name] = f.roundTrip
	return f
}

// Write replaces a file atomically: a reader sees the old contents or the new.
// It does not wait until they are on the disk, because the file may be lost.
func Write(file string, data []byte) error {
	if err := checkDir(file); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(file), ".tmp-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	if _, err = tmp.Write(data); err == nil {
		err = tmp.Chmod(0o644)
	}
	if cerr := tmp.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return err
	}
	return os.Rename(tmp.Name(), file)
}

// stateDir is the directory of state files in a checkout.
const stateDir = ".grayloft"

// checkDir refuses a state directory of a checkout that is a link: the
// repository may contain one that leads elsewhere.
func checkDir(file string) error {
	sep := string(filepath.Separator)
	before, _, ok := strings.Cut(file, sep+stateDir+sep)
	if !ok {
		return nil
	}
	info, err := os.Lstat(before + sep + stateDir)
	if err == nil && !info.IsDir() {
		err = fmt.Errorf("%s in %s is not a directory", stateDir, before)
	}
	return err
}
