// Package store is this machine's cache: blobs by digest, small ones in segments
// and large ones as files, and entries by repository, key and origin. Several clients may use one cache at the same
// time. Nothing in it is trusted: a blob is verified when it is read, and an
// entry that cannot be read is treated as missing.
package store

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/lock"
	"grayloft.example/grayloft/internal/machine/segments"
	"grayloft.example/grayloft/internal/machine/statefile"
	"grayloft.example/grayloft/internal/protocol"
)

// Store is a directory with a cache.
type Store struct {
	dir      string
	small    *segments.Set
	idle     sync.Pool // of readers
	listings *lru.Cache[digest.Digest, listing.List]
}

// remembered is how many large listings are kept in memory: a run needs the one of a task
// several times in a row.
const remembered = 4

// smallBlob is the number of bytes up to which a blob is kept in a segment.
const smallBlob = 256 << 10

// Open creates the directory if necessary.
func Open(dir string) (*Store, error) {
	for _, d := range []string{"blobs", "entries", "tmp", "spool", "locks"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			return nil, fmt.Errorf("this machine's cache: %w: set GRAYLOFT_CACHE to a writable directory", err)
		}
	}
	listings, err := lru.New[digest.Digest, listing.List](remembered)
	if err != nil {
		return nil, err
	}
	return &Store{dir: dir, small: segments.Open(filepath.Join(dir, "segments")), listings: listings}, nil
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

// Origin says where an entry comes from. An entry made here without a service
// has neither service nor shelf. Checkout is set if the result is right in one checkout of this
// machine alone, because it contains its path.
type Origin struct {
	Repo, Service, Shelf string
	Checkout             string `json:",omitempty"`
}

func (s *Store) entry(k digest.Digest, o Origin) string {
	from := digest.Of([]byte(o.Repo + "\x00" + o.Service + "\x00" + o.Shelf + "\x00" + o.Checkout)).String()[:16]
	name := hex.EncodeToString(k[:])
	return filepath.Join(s.dir, "entries", name[:2], name[2:]+"-"+from)
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
	if s.IsWithdrawn(e.Key, e.Listing) {
		return e, fmt.Errorf("a result of %s with these outputs was withdrawn, and is not kept again", e.Task)
	}
	if have, ok := s.Entry(e.Key, o); ok && s.Has(have.Listing) {
		return have, nil
	}
	data, err := json.Marshal(stored)
	if err != nil {
		return e, err
	}
	// Whoever sees an entry sees its blobs.
	if err := s.Flush(); err != nil {
		return e, err
	}
	return e, s.writeFile(s.entry(e.Key, o), statefile.SealLine(data))
}

// Entry returns the entry under a key from an origin.
func (s *Store) Entry(k digest.Digest, o Origin) (protocol.Entry, bool) {
	data, err := os.ReadFile(s.entry(k, o))
	if err != nil {
		return protocol.Entry{}, false
	}
	st, ok := readEntry(data)
	if !ok || st.Origin != o || st.Entry.Key != k || s.IsWithdrawn(k, st.Entry.Listing) {
		return protocol.Entry{}, false
	}
	s.used(s.entry(k, o))
	return st.Entry, true
}

// DropEntry deletes an entry whose blobs turned out to be missing.
func (s *Store) DropEntry(k digest.Digest, o Origin) { os.Remove(s.entry(k, o)) }

// Spool stores something to be sent to a service later.
func (s *Store) Spool(name string, data []byte) error {
	if err := s.Flush(); err != nil {
		return err
	}
	return s.writeFile(filepath.Join(s.dir, "spool", name), data)
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
