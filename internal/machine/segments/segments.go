// Package segments keeps small blobs in few files. A segment is a POSIX tar archive (IEEE
// 1003.1, ustar) without its two last blocks, to which members are appended: plain files
// named by digest, with the time of their arrival. A member is a blob, or a frame with several
// that arrived in it (package pack). An index next to the segments says where
// each blob is; it can be made again from them. Several processes may read and append at the
// same time, each to a segment of its own. A blob is in the index only once it is whole in
// its segment. Whenever it is read, it is compared with the checksum that the index has of it.
package segments

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// Set is a directory of segments. It is safe for concurrent use.
type Set struct {
	Now func() time.Time // when a blob arrives

	dir string

	mu     sync.Mutex
	index  *index
	reads  map[uint64]*os.File // segments that are open for reading
	idle   sync.Pool           // of readers
	writes *writer             // nil: nothing was added yet
	landed *sync.Cond          // what was being written is

	rebuilt bool
}

// Open returns the segments in a directory, which exists or is created when something is
// added.
func Open(dir string) *Set {
	s := &Set{Now: time.Now, dir: dir, index: newIndex(filepath.Join(dir, indexName)), reads: map[uint64]*os.File{}}
	s.landed = sync.NewCond(&s.mu)
	return s
}

// ErrDamaged is wrapped by errors about a blob whose contents do not match its digest. It is
// not in the index any more.
var ErrDamaged = errors.New("damaged in a segment")

func segmentName(id uint64) string { return fmt.Sprintf("%016x.tar", id) }

func (s *Set) file(id uint64) string { return filepath.Join(s.dir, segmentName(id)) }

// find returns where a blob is. The caller holds the lock.
func (s *Set) find(d digest.Digest) (place, bool) {
	p, ok := s.index.find(d)
	if !ok && s.refresh() {
		p, ok = s.index.find(d)
	}
	return p, ok
}

// refresh reads what other processes have added, and tells whether that was anything. An
// index that is missing, or whose format is another, is made again. The caller holds the
// lock.
func (s *Set) refresh() bool {
	news, err := s.index.refresh()
	if errors.Is(err, errNoIndex) && !s.rebuilt {
		s.rebuilt = true
		if list, lerr := s.list(); lerr == nil && len(list) > 0 {
			news = s.rebuild(context.Background()) == nil
		}
	}
	if news && s.index.isLong() {
		// Whoever reads it next need not read all of it. It is as right without that.
		_ = s.index.replace(func() ([]row, error) {
			if _, err := s.index.refresh(); err != nil {
				return nil, err // a place that is not known is a blob that is lost
			}
			return s.index.rows()
		})
	}
	if news && s.writes != nil {
		for _, r := range s.writes.rows { // they are in no file yet
			s.index.set(r.digest, r.place)
		}
	}
	return news
}

// Find returns the size of a blob in bytes, and whether there is one.
func (s *Set) Find(d digest.Digest) (size int64, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, ok := s.find(d)
	return int64(p.size), ok
}

// Absent returns those blobs that are not there. It asks for what other processes have added
// once for all of them.
func (s *Set) Absent(list []digest.Digest) (absent []digest.Digest) {
	s.mu.Lock()
	defer s.mu.Unlock()
	isNew := false
	for _, d := range list {
		_, ok := s.index.find(d)
		if !ok && !isNew {
			_, ok = s.find(d)
			isNew = true
		}
		if !ok {
			if absent == nil { // usually none is, or all are
				absent = make([]digest.Digest, 0, len(list))
			}
			absent = append(absent, d)
		}
	}
	return absent
}

// Order returns where a blob is: reading in the order of these pairs is fastest.
func (s *Set) Order(d digest.Digest) (segment uint64, position int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, _ := s.find(d)
	return p.segment, int64(p.at)
}

// mostOpen is how many segments are open for reading at a time.
const mostOpen = 64

// open returns a segment that is open for reading. The caller holds the lock.
func (s *Set) open(id uint64) (*os.File, error) {
	if f := s.reads[id]; f != nil {
		return f, nil
	}
	f, err := os.Open(s.file(id))
	if err != nil {
		return nil, err
	}
	if len(s.reads) >= mostOpen {
		clear(s.reads) // each is closed when the last reader has forgotten it
	}
	s.reads[id] = f
	return f, nil
}

// drop takes a damaged blob out of the index, and with it all others in its frame, which are
// damaged as well: otherwise each of them is found out and fetched by itself.
func (s *Set) drop(d digest.Digest, p place) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if is, ok := s.index.find(d); !ok || is != p {
		return
	}
	out := []row{{digest: d, place: p, gone: true}}
	if p.frame > 0 {
		_, _ = s.index.inSegment(p.segment, func(other digest.Digest, at place) { // what cannot be read is found out later
			if other != d && at.at == p.at {
				out = append(out, row{digest: other, place: at, gone: true})
			}
		})
	}
	for _, r := range out {
		s.index.remove(r.digest)
	}
	_ = s.index.append(out) // otherwise it is found out again
}

// Drop takes a blob out of the index.
func (s *Set) Drop(d digest.Digest) {
	s.mu.Lock()
	p, ok := s.find(d)
	s.mu.Unlock()
	if ok {
		s.drop(d, p)
	}
}

// Stored describes a blob.
type Stored struct {
	Digest  digest.Digest
	Size    int64
	Room    int64     // bytes that it takes in its segment, without its header: in a frame, its share of that
	Arrived time.Time // to the second
}

// All returns every blob that other processes can see as well.
func (s *Set) All() []Stored {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refresh()
	list, _ := s.inOrder()
	out := make([]Stored, 0, len(list))
	for rows := range together(list) {
		plain := int64(0)
		for _, r := range rows {
			plain += int64(r.size)
		}
		for _, r := range rows {
			room := r.stored() * int64(r.size) / max(plain, 1)
			out = append(out, Stored{r.digest, int64(r.size), room, time.Unix(int64(r.time), 0)})
		}
	}
	return out
}

// Files returns how many segments there are, and their bytes.
func (s *Set) Files() (n int, bytes int64, err error) {
	list, err := s.list()
	for _, f := range list {
		n++
		bytes += f.size
	}
	return n, bytes, err
}

type found struct {
	id   uint64
	size int64
}

// list returns the segments in the directory.
func (s *Set) list() (out []found, err error) {
	entries, err := os.ReadDir(s.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		var id uint64
		if n, _ := fmt.Sscanf(e.Name(), "%016x.tar", &id); n != 1 || e.Name() != segmentName(id) {
			continue
		}
		if info, err := e.Info(); err == nil {
			out = append(out, found{id, info.Size()})
		}
	}
	return out, err
}

// Rebuild makes the index again from the segments, and returns how many blobs it contains.
func (s *Set) Rebuild(ctx context.Context) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.rebuild(ctx); err != nil {
		return 0, err
	}
	n := 0
	_, err := s.index.each(func(digest.Digest, place) { n++ })
	return n, err
}

func (s *Set) rebuild(ctx context.Context) error {
	return s.index.replace(func() (rows []row, err error) {
		list, err := s.list()
		at := map[digest.Digest]int{}
		for _, f := range list {
			if err != nil || ctx.Err() != nil {
				return nil, errors.Join(err, ctx.Err())
			}
			var more []row
			more, err = s.scan(f.id)
			for _, r := range more {
				if i, ok := at[r.digest]; ok {
					rows[i] = r
					continue
				}
				at[r.digest] = len(rows)
				rows = append(rows, r)
			}
		}
		_ = os.Remove(filepath.Join(s.dir, oldName))
		return rows, err
	})
}

// IsDamaged tells whether rows of the index are damaged: [Set.Rebuild] then finds what they
// said.
func (s *Set) IsDamaged() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refresh()
	bad, err := s.index.each(func(digest.Digest, place) {})
	return bad > 0 || err != nil
}
