package segments

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"slices"

	"github.com/zeebo/xxh3"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/lock"
)

// The index is a file of rows of 72 bytes, of which the first names the format. Numbers are
// little-endian. A row says that a blob is somewhere, or that it is not any more:
//
//	 0  digest, 32 bytes
//	32  segment, 8 bytes
//	40  position of the contents or the frame in the segment, 4 bytes
//	44  length of the frame that contains the blob, 4 bytes, with the highest bit set; 0: it is in none
//	48  size, 4 bytes
//	52  arrival, seconds since 1970, 4 bytes
//	56  XXH3 of the contents or the frame, 8 bytes, computed when they were compared with the digest
//	64  1: it is not there any more; otherwise 0
//	68  CRC-32C of the bytes before
//
// Later rows count. A row whose sum is wrong is as good as absent. Programs from before there were
// frames take the position for one of 8 bytes, which is negative then, and ignore the row. The
// first row ends with a random number: a file that replaces another may get its inode. Of the rows
// behind it, so many are in order as it says (see [sorted]).
const (
	rowBytes  = 72
	format    = "grayloft segment index 2\n"
	indexName = "index-2"
	oldName   = "index" // of the index of format 1, whose rows were shorter
)

var table = crc32.MakeTable(crc32.Castagnoli)

// heading returns the first row of a new index, of which so many rows are in order.
func heading(inOrder int) []byte {
	h := make([]byte, rowBytes)
	copy(h, format)
	putInOrder(h, inOrder)
	_, _ = rand.Read(h[rowBytes-16:])
	return h
}

// place says where a blob is.
type place struct {
	segment uint64
	at      uint32 // of its contents, or its frame
	frame   uint32 // bytes of the frame; 0: it is in none
	size    uint32 // of the blob
	time    uint32 // of its arrival, in seconds since 1970
	sum     uint64 // of its contents, or its frame: see [sum]
}

// framed is the bit of a row that tells a blob in a frame.
const framed = 1 << 31

// stored returns how many bytes there are in the segment: a blob, or a frame with several.
func (p place) stored() int64 {
	if p.frame > 0 {
		return int64(p.frame)
	}
	return int64(p.size)
}

// end returns where the next member of the segment begins.
func (p place) end() int64 { return int64(p.at) + padded(p.stored()) }

// sum returns the checksum by which damage is noticed when a blob is read: XXH3 with 64 bits,
// as the xxHash project specifies it. Whoever could choose contents with the same sum could
// write an index as well; for what comes from elsewhere, digests are compared.
func sum(text []byte) uint64 { return xxh3.Hash(text) }

type row struct {
	digest digest.Digest
	place
	gone bool
}

func (r row) encode(to []byte) []byte {
	var none [rowBytes]byte
	to = append(to, none[:]...)
	b := to[len(to)-rowBytes:]
	copy(b, r.digest[:])
	binary.LittleEndian.PutUint64(b[32:], r.segment)
	binary.LittleEndian.PutUint32(b[40:], r.at)
	if r.frame > 0 {
		binary.LittleEndian.PutUint32(b[44:], r.frame|framed)
	}
	binary.LittleEndian.PutUint32(b[48:], r.size)
	binary.LittleEndian.PutUint32(b[52:], r.time)
	binary.LittleEndian.PutUint64(b[56:], r.sum)
	if r.gone {
		b[64] = 1
	}
	binary.LittleEndian.PutUint32(b[68:], crc32.Checksum(b[:68], table))
	return to
}

func segmentOf(b []byte) uint64 { return binary.LittleEndian.Uint64(b[32:]) }

func decode(b []byte) (r row, ok bool) {
	r.digest = digest.Digest(b[:32])
	r.segment = segmentOf(b)
	r.at = binary.LittleEndian.Uint32(b[40:])
	frame := binary.LittleEndian.Uint32(b[44:])
	r.frame = frame &^ framed
	r.size = binary.LittleEndian.Uint32(b[48:])
	r.time = binary.LittleEndian.Uint32(b[52:])
	r.sum = binary.LittleEndian.Uint64(b[56:])
	r.gone = b[64] == 1
	sane := r.size <= Largest && r.frame <= Largest && (frame == 0 || r.frame > 0 && frame&framed != 0)
	return r, sane && crc32.Checksum(b[:68], table) == binary.LittleEndian.Uint32(b[68:])
}

// index is what this process knows of the index. The set's lock protects it.
type index struct {
	file   string
	sorted sorted                  // its first rows
	later  map[digest.Digest]place // of later rows, and of those that are not in the file yet; without a segment: it is gone
	seen   os.FileInfo             // of the file that was read; nil: none was
	head   []byte                  // its first row
	read   int64                   // bytes of it, with those of the sorted rows
	bad    int                     // rows among the later ones whose sum is wrong
}

func newIndex(file string) *index { return &index{file: file, later: map[digest.Digest]place{}} }

// find returns where a blob is.
func (x *index) find(d digest.Digest) (place, bool) {
	if p, ok := x.later[d]; ok {
		return p, p.segment != 0
	}
	p, ok, err := x.sorted.find(d)
	if errors.Is(err, errDamaged) {
		x.readAll()
		p, ok = x.later[d]
	}
	return p, ok && p.segment != 0
}

// readAll reads the rows that are in order as if they were not: some are damaged.
func (x *index) readAll() {
	bad, err := x.sorted.each(0, func(r row) {
		if _, ok := x.later[r.digest]; !ok {
			x.later[r.digest] = r.place
		}
	})
	if err == nil {
		x.bad += bad
		x.sorted.close()
	}
}

func (x *index) set(d digest.Digest, p place) { x.later[d] = p }

func (x *index) remove(d digest.Digest) {
	if x.sorted.n > 0 {
		x.later[d] = place{}
	} else {
		delete(x.later, d)
	}
}

// each calls do with every blob, and returns how many rows are damaged.
func (x *index) each(do func(digest.Digest, place)) (bad int, err error) { return x.inSegment(0, do) }

// inSegment is [index.each] for a segment, or for all if that is 0.
func (x *index) inSegment(segment uint64, do func(digest.Digest, place)) (bad int, err error) {
	bad, err = x.sorted.each(segment, func(r row) {
		if _, ok := x.later[r.digest]; !ok {
			do(r.digest, r.place)
		}
	})
	for d, p := range x.later {
		if p.segment != 0 && (segment == 0 || p.segment == segment) {
			do(d, p)
		}
	}
	return bad + x.bad, err
}

// rows returns all rows.
func (x *index) rows() ([]row, error) {
	out := make([]row, 0, x.sorted.n+len(x.later))
	_, err := x.each(func(d digest.Digest, p place) { out = append(out, row{digest: d, place: p}) })
	return out, err
}

// isLong tells whether so many rows are not in order that it is worth putting them in order.
func (x *index) isLong() bool {
	return searches && x.read/rowBytes-1-int64(x.sorted.n) > int64(max(4*groupRows, x.sorted.n/16))
}

// forget makes the index be read from its beginning. What is not in the file is lost, so a
// writer adds it again.
func (x *index) forget() {
	x.sorted.close()
	x.later, x.seen, x.head, x.read, x.bad = map[digest.Digest]place{}, nil, nil, 0, 0
}

// errNoIndex says that there is no index, or that its format is another.
var errNoIndex = errors.New("no index")

// refresh reads what other processes have added, and tells whether that was anything.
func (x *index) refresh() (news bool, err error) {
	info, err := os.Stat(x.file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, errNoIndex
	case err != nil || x.unchanged(info):
		return false, err
	}
	f, err := os.Open(x.file)
	if err != nil {
		return false, err
	}
	defer func() {
		if f != x.sorted.f {
			f.Close()
		}
	}()
	head := make([]byte, rowBytes)
	if _, err := f.ReadAt(head, 0); errors.Is(err, io.EOF) {
		return false, nil // somebody is about to write it
	} else if err != nil {
		return false, err
	}
	if !bytes.HasPrefix(head, []byte(format)) {
		return false, errNoIndex
	}
	if info, err = f.Stat(); err != nil {
		return false, err
	}
	if !bytes.Equal(head, x.head) || info.Size() < x.read {
		news = true
		x.forget()
		n := inOrderOf(head, info.Size())
		if n > 0 {
			x.sorted = newSorted(f, n)
		}
		x.head, x.read = head, int64(1+n)*rowBytes
		x.later = make(map[digest.Digest]place, (info.Size()-x.read)/rowBytes)
	}
	x.seen = info
	data := make([]byte, (info.Size()-x.read)/rowBytes*rowBytes)
	n, err := f.ReadAt(data, x.read)
	if err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	data = data[:n/rowBytes*rowBytes]
	for at := 0; at < len(data); at += rowBytes {
		x.apply(data[at : at+rowBytes])
	}
	x.read += int64(len(data))
	return news || len(data) > 0, nil
}

// unchanged tells whether the file is the one that was read, and no longer.
func (x *index) unchanged(info os.FileInfo) bool {
	return x.seen != nil && os.SameFile(info, x.seen) && info.ModTime().Equal(x.seen.ModTime()) && info.Size()-x.read < rowBytes
}

func (x *index) apply(b []byte) {
	r, ok := decode(b)
	switch {
	case !ok:
		x.bad++
	case !r.gone:
		x.set(r.digest, r.place)
	default:
		if p, ok := x.find(r.digest); ok && p == r.place {
			x.remove(r.digest)
		}
	}
}

// append adds rows to the file. A row that a killed process left unfinished is overwritten.
func (x *index) append(rows []row) error {
	if len(rows) == 0 {
		return nil
	}
	return lock.Hold(x.file+".lock", func() error {
		f, err := os.OpenFile(x.file, os.O_RDWR|os.O_CREATE, 0o644)
		if err != nil {
			return err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return err
		}
		end := info.Size() / rowBytes * rowBytes
		var data []byte
		if end == 0 {
			data = append(data, heading(0)...)
		}
		for _, r := range rows {
			data = r.encode(data)
		}
		_, err = f.WriteAt(data, end)
		return err
	})
}

// replace writes the index again, in order: with what the rows are, one of each digest, once nobody
// else can add any.
func (x *index) replace(rows func() ([]row, error)) error {
	return lock.Hold(x.file+".lock", func() error {
		list, err := rows()
		if err != nil {
			return err
		}
		slices.SortFunc(list, func(a, b row) int { return bytes.Compare(a.digest[:], b.digest[:]) })
		data := append(make([]byte, 0, (1+len(list))*rowBytes), heading(len(list))...)
		for _, r := range list {
			data = r.encode(data)
		}
		next := x.file + ".next"
		if err := os.WriteFile(next, data, 0o644); err != nil {
			return errors.Join(err, os.Remove(next))
		}
		if err := os.Rename(next, x.file); err != nil {
			return err
		}
		x.forget()
		_, err = x.refresh()
		return err
	})
}
