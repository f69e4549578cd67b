// Package store is this machine's cache: blobs by digest, entries by
// repository, key and origin. Several clients may use one cache at the same
// time. Nothing in it is trusted: a blob is verified when it is read, and an
// entry that cannot be read is treated as missing.
package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/lock"
	"grayloft.example/grayloft/internal/machine/statefile"
	"grayloft.example/grayloft/internal/protocol"
)

// Store is a directory with a cache.
type Store struct{ dir string }

// Open creates the directory if necessary.
func Open(dir string) (*Store, error) {
	for _, d := range []string{"blobs", "entries", "tmp", "spool", "locks"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			return nil, fmt.Errorf("this machine's cache: %w: set GRAYLOFT_CACHE to a writable directory", err)
		}
	}
	return &Store{dir}, nil
}

// DefaultDir is the cache's directory unless GRAYLOFT_CACHE names another.
func DefaultDir() (string, error) {
	if d := os.Getenv("GRAYLOFT_CACHE"); d != "" {
		return filepath.Abs(d)
	}
	base, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("no directory for the cache: %w: set GRAYLOFT_CACHE", err)
	}
	return filepath.Join(base, "grayloft"), nil
}

// Dir returns the cache's directory.
func (s *Store) Dir() string { return s.dir }

// Lock takes a named lock among all processes that use this cache.
func (s *Store) Lock(ctx context.Context, name string) (release func(), err error) {
	release, _, err = lock.Take(ctx, filepath.Join(s.dir, "locks", digest.Of([]byte(name)).String()[:32]))
	return release, err
}

// ErrDamaged is returned for a blob whose contents do not match its digest. The
// blob has been deleted by then.
var ErrDamaged = errors.New("damaged in this machine's cache")

func (s *Store) blob(d digest.Digest) string {
	hex := d.String()
	return filepath.Join(s.dir, "blobs", hex[:2], hex[2:])
}

// Has tells whether a blob is in the cache. It may still turn out to be
// damaged.
func (s *Store) Has(d digest.Digest) bool {
	info, err := os.Lstat(s.blob(d))
	return err == nil && info.Mode().IsRegular()
}

// Size returns the length of a blob in bytes.
func (s *Store) Size(d digest.Digest) (int64, error) {
	info, err := os.Stat(s.blob(d))
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// tempDirs is the number of directories for incoming files.
const tempDirs = 16

// temp opens a file in the cache's own directory, for [Incoming] and for copies
// of outputs.
func (s *Store) temp() (*os.File, error) {
	var b [12]byte
	_, _ = rand.Read(b[:])
	// In one of several directories, because creating files in one directory is
	// serialised by the file system.
	dir := filepath.Join(s.dir, "tmp", strconv.Itoa(int(b[0])%tempDirs))
	file := filepath.Join(dir, hex.EncodeToString(b[:]))
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, err
		}
		f, err = os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
	}
	return f, err
}

// Incoming is a blob that is being written. Nobody sees it before
// [Incoming.Keep].
type Incoming struct {
	s    *Store
	f    *os.File
	h    hash.Hash
	size int64
}

// Incoming begins a blob.
func (s *Store) Incoming() (*Incoming, error) {
	f, err := s.temp()
	if err != nil {
		return nil, err
	}
	return &Incoming{s: s, f: f, h: digest.New()}, nil
}

func (in *Incoming) Write(p []byte) (int, error) {
	n, err := in.f.Write(p)
	in.h.Write(p[:n])
	in.size += int64(n)
	return n, err
}

// Keep stores the blob under the digest of its contents, which must equal want
// unless want is zero.
func (in *Incoming) Keep(want digest.Digest) (digest.Digest, int64, error) {
	d := digest.From(in.h)
	name := in.f.Name()
	defer os.Remove(name)
	if err := in.f.Close(); err != nil {
		return d, 0, err
	}
	if !want.IsZero() && d != want {
		return d, 0, fmt.Errorf("its digest is %s, but %s was requested", d.Short(), want.Short())
	}
	to := in.s.blob(d)
	if in.s.Has(d) {
		if size, err := in.s.Size(d); err == nil && size == in.size {
			return d, in.size, nil
		}
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return d, 0, err
	}
	return d, in.size, os.Rename(name, to)
}

// Drop discards the blob.
func (in *Incoming) Drop() {
	in.f.Close()
	os.Remove(in.f.Name())
}

// Keep stores the contents of r as a blob, if they match the digest.
func (s *Store) Keep(d digest.Digest, r io.Reader) error {
	in, err := s.Incoming()
	if err != nil {
		return err
	}
	if _, err := io.Copy(in, r); err != nil {
		in.Drop()
		return fmt.Errorf("blob %s was cut off: %w", d.Short(), err)
	}
	if _, _, err := in.Keep(d); err != nil {
		return fmt.Errorf("the contents are not those of blob %s: %w", d.Short(), err)
	}
	return nil
}

// Put stores bytes as a blob.
func (s *Store) Put(b []byte) (digest.Digest, error) {
	d := digest.Of(b)
	if size, err := s.Size(d); err == nil && size == int64(len(b)) {
		return d, nil
	}
	in, err := s.Incoming()
	if err != nil {
		return d, err
	}
	if _, err := in.Write(b); err != nil {
		in.Drop()
		return d, err
	}
	_, _, err = in.Keep(d)
	return d, err
}

// Copy copies a file aside and stores the copy, whose digest it returns: the
// contents are hashed as they are copied, whatever happens to the file
// meanwhile. See, if set, receives the contents as they pass.
func (s *Store) Copy(src io.Reader, see io.Writer) (digest.Digest, int64, error) {
	in, err := s.Incoming()
	if err != nil {
		return digest.Digest{}, 0, err
	}
	to := io.Writer(in)
	if see != nil {
		to = io.MultiWriter(in, see)
	}
	if _, err := io.Copy(to, src); err != nil {
		in.Drop()
		return digest.Digest{}, 0, err
	}
	return in.Keep(digest.Digest{})
}

// Read returns a small blob, verified.
func (s *Store) Read(d digest.Digest) ([]byte, error) {
	b, err := os.ReadFile(s.blob(d))
	if err != nil {
		return nil, err
	}
	if digest.Of(b) != d {
		s.damaged(d)
		return nil, fmt.Errorf("blob %s: %w", d.Short(), ErrDamaged)
	}
	return b, nil
}

// WriteTo writes a blob's contents to w while verifying them. After an error
// the written bytes must not be used.
func (s *Store) WriteTo(d digest.Digest, w io.Writer) error {
	f, err := os.Open(s.blob(d))
	if err != nil {
		return err
	}
	defer f.Close()
	h := digest.New()
	if _, err := io.Copy(io.MultiWriter(w, h), f); err != nil {
		return err
	}
	if digest.From(h) != d {
		s.damaged(d)
		return fmt.Errorf("blob %s: %w", d.Short(), ErrDamaged)
	}
	return nil
}

func (s *Store) damaged(d digest.Digest) { os.Remove(s.blob(d)) }

// Origin says where an entry comes from. An entry made here without a service
// has neither service nor shelf.
type Origin struct{ Repo, Service, Shelf string }

func (s *Store) entry(k digest.Digest, o Origin) string {
	from := digest.Of([]byte(o.Repo + "\x00" + o.Service + "\x00" + o.Shelf)).String()[:16]
	hex := k.String()
	return filepath.Join(s.dir, "entries", hex[:2], hex[2:]+"-"+from)
}

type storedEntry struct {
	Version int            `json:"version"`
	Origin  Origin         `json:"origin"`
	Entry   protocol.Entry `json:"entry"`
	// Shareable tells that the result was made here and may leave this machine.
	Shareable bool `json:"shareable,omitempty"`
}

const entryVersion = 2

// readEntry reads an entry's file; a damaged one is treated as missing.
func readEntry(data []byte) (st storedEntry, ok bool) {
	text, whole := statefile.OpenLine(data)
	ok = whole && json.Unmarshal(text, &st) == nil && st.Version == entryVersion
	return st, ok
}

// PutEntry stores an entry, unless one exists under its key and origin; it then
// returns that one.
func (s *Store) PutEntry(e protocol.Entry, o Origin) (protocol.Entry, error) {
	return s.put(storedEntry{entryVersion, o, e, false})
}

// PutMade is [Store.PutEntry] for a result that was made here. Shareable tells
// whether it may leave this machine.
func (s *Store) PutMade(e protocol.Entry, o Origin, shareable bool) (protocol.Entry, error) {
	return s.put(storedEntry{entryVersion, o, e, shareable})
}

// Shareable returns the results of a repository that were made here without a
// service and may leave this machine, the most recently used first.
func (s *Store) Shareable(repo string) ([]protocol.Entry, error) {
	all, err := s.entries()
	var out []protocol.Entry
	for _, e := range all {
		if e.Shareable && e.Origin == (Origin{Repo: repo}) {
			out = append(out, e.Entry)
		}
	}
	return out, err
}

func (s *Store) put(stored storedEntry) (protocol.Entry, error) {
	e, o := stored.Entry, stored.Origin
	if have, ok := s.Entry(e.Key, o); ok && s.Has(have.Listing) {
		return have, nil
	}
	data, err := json.Marshal(stored)
	if err != nil {
		return e, err
	}
	data = statefile.SealLine(data)
	in, err := s.Incoming()
	if err != nil {
		return e, err
	}
	if _, err := in.Write(data); err != nil {
		in.Drop()
		return e, err
	}
	defer os.Remove(in.f.Name())
	if err := in.f.Close(); err != nil {
		return e, err
	}
	to := s.entry(e.Key, o)
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return e, err
	}
	return e, os.Rename(in.f.Name(), to)
}

// Entry returns the entry under a key from an origin.
func (s *Store) Entry(k digest.Digest, o Origin) (protocol.Entry, bool) {
	data, err := os.ReadFile(s.entry(k, o))
	if err != nil {
		return protocol.Entry{}, false
	}
	st, ok := readEntry(data)
	if !ok || st.Origin != o || st.Entry.Key != k {
		return protocol.Entry{}, false
	}
	s.used(s.entry(k, o))
	return st.Entry, true
}

// DropEntry deletes an entry whose blobs turned out to be missing.
func (s *Store) DropEntry(k digest.Digest, o Origin) { os.Remove(s.entry(k, o)) }

// Spool stores something to be sent to a service later.
func (s *Store) Spool(name string, data []byte) error {
	in, err := s.Incoming()
	if err != nil {
		return err
	}
	if _, err = in.Write(data); err != nil {
		in.Drop()
		return err
	}
	defer os.Remove(in.f.Name())
	if err := in.f.Close(); err != nil {
		return err
	}
	return os.Rename(in.f.Name(), filepath.Join(s.dir, "spool", name))
}

// Spooled returns what waits to be sent, by name.
func (s *Store) Spooled() ([]string, error) {
	list, err := os.ReadDir(filepath.Join(s.dir, "spool"))
	var names []string
	for _, e := range list {
		if !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// ReadSpooled returns what is stored under a name in the spool.
func (s *Store) ReadSpooled(name string) ([]byte, error) {
	return os.ReadFile(filepath.Join(s.dir, "spool", name))
}

// SetAside moves something out of the spool that a service refused, and returns
// where it is.
func (s *Store) SetAside(name string) (string, error) {
	to := filepath.Join(s.dir, "refused", name)
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return "", err
	}
	return to, os.Rename(filepath.Join(s.dir, "spool", name), to)
}

// Unspool deletes something that was sent, or never can be.
func (s *Store) Unspool(name string) error {
	err := os.Remove(filepath.Join(s.dir, "spool", name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // another client sent it as well
	}
	return err
}

// ReaderAt opens a blob, without verifying it.
func (s *Store) ReaderAt(d digest.Digest) (protocol.OpenBlob, error) {
	f, err := os.Open(s.blob(d))
	if err != nil {
		return nil, err // not a nil file in an interface
	}
	return f, nil
}
