package segments

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"math/bits"
	"os"
	"runtime"

	"grayloft.example/grayloft/internal/core/digest"
)

// The first row of an index says how many of the rows behind it are in the order of their
// digests, each digest once. These are not read when the index is: a digest is searched for where
// it is expected, since digests are spread evenly, and what was read of the file is kept.
//
//	32  rows in order, 8 bytes; programs from before write 0
//	40  CRC-32C of the bytes before
const (
	inOrderAt    = 32
	inOrderSumAt = 40
)

func putInOrder(head []byte, n int) {
	binary.LittleEndian.PutUint64(head[inOrderAt:], uint64(n))
	binary.LittleEndian.PutUint32(head[inOrderSumAt:], crc32.Checksum(head[:inOrderSumAt], table))
}

// searches tells whether rows are searched for in the file. On Windows, one that is open cannot be
// replaced, so all rows are read at once.
const searches = runtime.GOOS != "windows"

// inOrderOf returns how many rows are in order, in a file of so many bytes.
func inOrderOf(head []byte, size int64) int {
	n := binary.LittleEndian.Uint64(head[inOrderAt:])
	right := binary.LittleEndian.Uint32(head[inOrderSumAt:]) == crc32.Checksum(head[:inOrderSumAt], table)
	if !searches || !right || n >= uint64(size/rowBytes) {
		return 0
	}
	return int(n)
}

// groupRows is how many rows are read at once.
const groupRows = 1024

// sorted are the rows of an index that are in order. The zero value has none.
type sorted struct {
	f      *os.File
	n      int
	groups [][]byte // nil: not read yet
}

func newSorted(f *os.File, n int) sorted {
	return sorted{f: f, n: n, groups: make([][]byte, (n+groupRows-1)/groupRows)}
}

func (s *sorted) close() {
	if s.f != nil {
		s.f.Close()
	}
	*s = sorted{}
}

// read reads a group of rows into a buffer.
func (s *sorted) read(group int, buf []byte) ([]byte, error) {
	first := group * groupRows
	buf = buf[:min(groupRows, s.n-first)*rowBytes]
	_, err := s.f.ReadAt(buf, int64(1+first)*rowBytes)
	return buf, err
}

// errDamaged says that rows are damaged: no search among them is right then.
var errDamaged = errors.New("damaged rows in an index")

// group returns a group of rows.
func (s *sorted) group(i int) ([]byte, error) {
	if s.groups[i] == nil {
		b, err := s.read(i, make([]byte, groupRows*rowBytes))
		if err != nil {
			return nil, err
		}
		for at := 0; at < len(b); at += rowBytes {
			if _, ok := decodeInOrder(b[at : at+rowBytes]); !ok {
				return nil, errDamaged
			}
		}
		s.groups[i] = b
	}
	return s.groups[i], nil
}

// decodeInOrder decodes a row. Among rows in order, none says that a blob is gone.
func decodeInOrder(b []byte) (row, bool) {
	r, ok := decode(b)
	return r, ok && !r.gone
}

// find returns where a blob is.
func (s *sorted) find(d digest.Digest) (p place, ok bool, err error) {
	low, high := 0, len(s.groups)-1
	expected, _ := bits.Mul64(binary.BigEndian.Uint64(d[:8]), uint64(s.n))
	at := int(expected) / groupRows
	for steps := 1; low <= high; steps++ {
		if steps > 4 { // not spread evenly
			at = (low + high) / 2
		}
		b, err := s.group(at)
		switch {
		case err != nil:
			return place{}, false, err
		case bytes.Compare(d[:], b[:digest.Size]) < 0:
			high, at = at-1, at-1
		case bytes.Compare(d[:], b[len(b)-rowBytes:][:digest.Size]) > 0:
			low, at = at+1, at+1
		default:
			p, ok = findIn(b, d)
			return p, ok, nil
		}
	}
	return place{}, false, nil
}

func findIn(rows []byte, d digest.Digest) (place, bool) {
	low, high := 0, len(rows)/rowBytes
	for low < high {
		at := (low + high) / 2
		b := rows[at*rowBytes:][:rowBytes]
		switch c := bytes.Compare(d[:], b[:digest.Size]); {
		case c < 0:
			high = at
		case c > 0:
			low = at + 1
		default:
			r, ok := decodeInOrder(b)
			return r.place, ok
		}
	}
	return place{}, false
}

// each calls do with every row of a segment, or of all if that is 0, and returns how many of them
// are damaged.
func (s *sorted) each(segment uint64, do func(row)) (bad int, err error) {
	var buf []byte
	for i, b := range s.groups {
		if b == nil {
			if buf == nil {
				buf = make([]byte, groupRows*rowBytes)
			}
			if b, err = s.read(i, buf); err != nil {
				return bad, err
			}
		}
		for ; len(b) > 0; b = b[rowBytes:] {
			if segment != 0 && segmentOf(b) != segment {
				continue
			}
			if r, ok := decodeInOrder(b[:rowBytes]); ok {
				do(r)
			} else {
				bad++
			}
		}
	}
	return bad, nil
}
