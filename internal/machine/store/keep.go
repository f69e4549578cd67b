package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
)

// Stats describes the contents of a cache.
type Stats struct {
	Dir       string `json:"dir"`
	Blobs     int    `json:"blobs"`
	BlobBytes int64  `json:"blob_bytes"` // of their contents
	DiskBytes int64  `json:"disk_bytes"` // that they take: what was fetched is compressed
	// Small blobs are in segments, which may contain deleted ones as well.
	Segments     int              `json:"segments"`
	SegmentBytes int64            `json:"segment_bytes"`
	Entries      int              `json:"entries"`
	Repos        map[string]int   `json:"repos"` // entries by repository
	Oldest       *time.Time       `json:"oldest"`
	Spooled      int              `json:"spooled"` // items that wait to be sent to a service
	Bytes        map[string]int64 `json:"bytes"`   // of outputs by repository, as entries state them
}

// Stats walks the cache.
func (s *Store) Stats() (Stats, error) {
	st := Stats{Dir: s.dir, Repos: map[string]int{}, Bytes: map[string]int64{}}
	err := s.eachBlob(func(b held) error {
		st.Blobs++
		st.BlobBytes += b.size
		st.DiskBytes += b.room
		return nil
	})
	if err != nil {
		return st, err
	}
	if st.Segments, st.SegmentBytes, err = s.small.Files(); err != nil {
		return st, err
	}
	entries, err := s.entries()
	for _, e := range entries {
		st.Entries++
		st.Repos[e.Origin.Repo]++
		st.Bytes[e.Origin.Repo] += e.Entry.Bytes
		if st.Oldest == nil || e.used.Before(*st.Oldest) {
			st.Oldest = &e.used
		}
	}
	if err != nil {
		return st, err
	}
	spooled, err := s.Spooled()
	st.Spooled = len(spooled)
	return st, err
}

// held is a blob in the cache.
type held struct {
	digest  digest.Digest
	size    int64
	room    int64 // bytes that it takes
	arrived time.Time
	file    string // empty: it is in a segment
}

func (s *Store) eachBlob(do func(b held) error) error {
	for _, b := range s.small.All() {
		if err := do(held{b.Digest, b.Size, b.Room, b.Arrived, ""}); err != nil {
			return err
		}
	}
	return s.eachFile(do)
}

// eachFile goes through the blobs that are files.
func (s *Store) eachFile(do func(b held) error) error {
	return filepath.WalkDir(filepath.Join(s.dir, "blobs"), func(p string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || e.IsDir() {
			return err
		}
		d, err := digest.Parse(filepath.Base(filepath.Dir(p)) + filepath.Base(p))
		if err != nil {
			return nil // not one of ours
		}
		info, err := e.Info()
		if err != nil {
			return nil // deleted meanwhile
		}
		return do(held{d, info.Size(), info.Size(), info.ModTime(), p})
	})
}

// filedEntry is an entry with its file and the time of its last use.
type filedEntry struct {
	storedEntry
	file string
	used time.Time
}

// entries returns every entry, the most recently used first.
func (s *Store) entries() ([]filedEntry, error) {
	var out []filedEntry
	err := filepath.WalkDir(filepath.Join(s.dir, "entries"), func(p string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || e.IsDir() {
			return err
		}
		info, ierr := e.Info()
		data, rerr := os.ReadFile(p)
		st, ok := readEntry(data)
		if ierr != nil || rerr != nil || !ok {
			return nil // deleted meanwhile, or not an entry
		}
		f := filedEntry{storedEntry: st, file: p}
		f.used = info.ModTime()
		out = append(out, f)
		return nil
	})
	slices.SortFunc(out, func(a, b filedEntry) int { return b.used.Compare(a.used) })
	return out, err
}

// used notes, by the day, that an entry was used; trimming goes by it.
func (s *Store) used(file string) {
	info, err := os.Stat(file)
	if err == nil && time.Since(info.ModTime()) > 24*time.Hour {
		now := time.Now()
		_ = os.Chtimes(file, now, now)
	}
}

// Limits say what a trim keeps.
type Limits struct {
	Bytes int64         // that blobs take; 0: any
	Age   time.Duration // since an entry was last used; 0: any
	Dry   bool          // only count
}

// young is how long a blob or entry is kept after its arrival or last use: work
// in progress may depend on it.
const young = time.Hour

// Trimmed says what a trim deleted, or would delete.
type Trimmed struct {
	Entries int   `json:"entries"`
	Blobs   int   `json:"blobs"`
	Bytes   int64 `json:"bytes"` // that the blobs took
	Left    int64 `json:"left_bytes"`
}

// Trim deletes the least recently used entries, as far as the limits require,
// and then the blobs that nothing names. Whatever arrived or was used within
// the last hour stays; a run that depended on something deleted anyway runs its
// task.
func (s *Store) Trim(ctx context.Context, l Limits, now time.Time) (Trimmed, error) {
	release, err := s.Lock(ctx, "trim")
	if err != nil {
		return Trimmed{}, err
	}
	defer release()
	sizes := map[digest.Digest]int64{}
	fresh := map[digest.Digest]bool{}
	small := map[digest.Digest]bool{}
	if err := s.eachBlob(func(b held) error {
		sizes[b.digest] = b.room
		fresh[b.digest] = now.Sub(b.arrived) < young
		small[b.digest] = b.file == ""
		return nil
	}); err != nil {
		return Trimmed{}, err
	}
	entries, err := s.entries()
	if err = errors.Join(err, s.trimWithdrawn(withdrawnKept)); err != nil {
		return Trimmed{}, err
	}
	out := Trimmed{}
	kept, total := map[digest.Digest]bool{}, int64(0)
	for d, isFresh := range fresh {
		if isFresh {
			kept[d] = true
			total += sizes[d]
		}
	}
	for _, e := range entries {
		names, more := s.names(e.Entry), int64(0)
		for _, d := range names {
			if !kept[d] {
				more += sizes[d]
			}
		}
		recent := now.Sub(e.used) < young
		if !recent && ((l.Age > 0 && now.Sub(e.used) > l.Age) || (l.Bytes > 0 && total+more > l.Bytes)) {
			out.Entries++
			if !l.Dry {
				os.Remove(e.file)
			}
			continue
		}
		total += more
		for _, d := range names {
			kept[d] = true
		}
	}
	s.keepSpooled(kept)
	gone := map[digest.Digest]bool{}
	for d, size := range sizes {
		if kept[d] {
			out.Left += size
			continue
		}
		out.Blobs++
		out.Bytes += size
		if small[d] {
			gone[d] = true
		} else if !l.Dry {
			os.Remove(s.blob(d))
		}
	}
	if !l.Dry {
		if err := s.small.Remove(ctx, gone); err != nil {
			return out, err
		}
	}
	return out, s.sweepTemp(now, l.Dry)
}

// names returns every blob that an entry needs, each once.
func (s *Store) names(e protocol.Entry) []digest.Digest {
	out := append([]digest.Digest{e.Listing, e.Log, e.Ingredients, e.Reports}, e.Refs...)
	if text, err := s.Read(e.Listing); err == nil {
		if list, err := listing.Parse(text); err == nil {
			for _, row := range list {
				if d, ok := row.Blob(); ok {
					out = append(out, d)
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b digest.Digest) int { return strings.Compare(string(a[:]), string(b[:])) })
	return slices.Compact(out)
}

// keepSpooled keeps what waits to be sent.
func (s *Store) keepSpooled(kept map[digest.Digest]bool) {
	list, _ := os.ReadDir(filepath.Join(s.dir, "spool"))
	for _, f := range list {
		data, err := os.ReadFile(filepath.Join(s.dir, "spool", f.Name()))
		if err != nil {
			continue
		}
		for _, word := range strings.FieldsFunc(string(data), func(r rune) bool { return !strings.ContainsRune("0123456789abcdef", r) }) {
			if d, err := digest.Parse(word); err == nil {
				kept[d] = true
				for _, n := range s.names(protocol.Entry{Listing: d}) {
					kept[n] = true
				}
			}
		}
	}
}

// sweepTemp deletes partial files of processes that were killed.
func (s *Store) sweepTemp(now time.Time, dry bool) error {
	err := filepath.WalkDir(filepath.Join(s.dir, "tmp"), func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		if info, err := e.Info(); err == nil && now.Sub(info.ModTime()) > 24*time.Hour && !dry {
			os.Remove(p)
		}
		return nil
	})
	parts, _ := os.ReadDir(filepath.Join(s.dir, "partial")) // usually none
	for _, f := range parts {
		if info, err := f.Info(); err == nil && now.Sub(info.ModTime()) > 7*24*time.Hour && !dry {
			os.Remove(filepath.Join(s.dir, "partial", f.Name()))
		}
	}
	return err
}

// Verify reads every blob, and deletes those whose contents do not match their
// digest. It returns how many it read, and which were damaged.
func (s *Store) Verify(ctx context.Context, seen func(done int)) (read int, damaged []digest.Digest, err error) {
	one := func() {
		if read++; seen != nil {
			seen(read)
		}
	}
	if s.small.IsDamaged() {
		if _, err := s.small.Rebuild(ctx); err != nil {
			return 0, nil, fmt.Errorf("making the index of the segments again: %w", err)
		}
	}
	if damaged, err = s.small.Check(ctx, one); err != nil {
		return read, damaged, err
	}
	err = s.eachFile(func(b held) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		err := s.WriteTo(b.digest, io.Discard)
		switch {
		case errors.Is(err, ErrDamaged):
			damaged = append(damaged, b.digest)
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return fmt.Errorf("reading %s: %w", b.file, err)
		}
		one()
		return nil
	})
	return read, damaged, err
}
