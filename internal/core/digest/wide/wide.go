// Package wide computes BLAKE3 with the registers of 512 bits that many processors have (AVX-512):
// 16 chunks at once, of one text or of several small ones. The library that serves other processors
// hashes up to 8 chunks of one text at once. The digests are those of BLAKE3 in its default mode
// with 256 bits of output
// (https://github.com/BLAKE3-team/BLAKE3-specs, version 2; the sections below are of it).
package wide

import (
	"slices"
	"sync"
	"unsafe"

	"github.com/zeebo/blake3"
)

const (
	width = 16   // lanes
	chunk = 1024 // bytes
	block = 64   // bytes
	// span is how many chunks of a stream are hashed before their tree is.
	span = 64
	// group is how many chunks are hashed before their trees are, if all of them are there.
	group = 256
	// narrow is up to how many bytes of one text the library is faster.
	narrow = 2 * chunk
)

// Together is how many bytes of several texts [SumAll] hashes before their trees.
const Together = group * chunk

// Flags of blocks (section 2.2, table 3).
const (
	chunkStart = 1 << iota
	chunkEnd
	parent
	root
)

// lanes are what is hashed at once. The assembly code knows the offsets of the fields.
type lanes struct {
	block     [width]unsafe.Pointer // the first block of each lane; the others follow it
	low, high [width]uint32         // halves of the number of the chunk
	start     [width]uint32         // flags of the first block
	end       [width]uint32         // more flags of the last block
	last      [width]uint32         // index of the last block
	rest      [width]uint32         // bytes of the last block
	_         [8][width]uint32      // the chaining value, word by word, while it is computed
	to        [width]unsafe.Pointer // where it belongs
}

// value is a chaining value; of a root, the digest.
type value = [32]byte

// hasher is room for hashing texts that have as many chunks as a group together.
type hasher struct {
	chunks  lanes // of which most are full
	parents lanes
	values  [group]value               // first of chunks, then of subtrees
	tree    [group]struct{ at, n int } // where each text's values are
	nowhere value                      // where that of an unused lane goes
	tails   [width][chunk]byte         // chunks that are not full
	used    int                        // lanes
	uneven  bool                       // whether lanes of chunks differ from those of full ones
}

var hashers = sync.Pool{New: func() any {
	s := &hasher{}
	s.chunks.set(chunkStart, chunkEnd, chunk/block-1, s.tails[0][:])
	s.parents.set(parent, 0, 0, s.values[0][:])
	return s
}}

// set prepares all lanes for blocks that are full.
func (l *lanes) set(start, end, last uint32, text []byte) {
	for j := range width {
		l.block[j] = unsafe.Pointer(unsafe.SliceData(text))
		l.start[j], l.end[j], l.last[j], l.rest[j] = start, end, last, block
	}
}

// Sum returns the digest of a text. It must not be called where the package is not [Available].
func Sum(text []byte) (sum [32]byte) {
	if len(text) <= narrow {
		return blake3.Sum256(text)
	}
	s := hashers.Get().(*hasher)
	defer hashers.Put(s)
	if len(text) <= group*chunk {
		return s.one(text, 0, root)
	}
	return s.large(text)
}

// large returns the digest of a text of more than a group.
func (s *hasher) large(text []byte) value {
	var t trunk
	for len(text) > span*chunk {
		s.push(&t, text[:span*chunk])
		text = text[span*chunk:]
	}
	return s.sum(&t, text)
}

// SumAll sets the digests of several texts: small ones are hashed together.
func SumAll[D ~[32]byte](texts [][]byte, sums []D) {
	s := hashers.Get().(*hasher)
	defer hashers.Put(s)
	for i := 0; i < len(texts); {
		n, to := 0, i
		for to < len(texts) && n+chunks(texts[to]) <= group {
			n += chunks(texts[to])
			to++
		}
		if to == i { // which alone is larger than a group
			sums[i] = D(Sum(texts[i]))
			i++
			continue
		}
		s.hash(texts[i:to], 0, root)
		for j := range to - i {
			sums[i+j] = D(s.values[s.tree[j].at])
		}
		i = to
	}
}

// chunks returns how many chunks a text has. That of nothing is empty.
func chunks(text []byte) int { return max(1, (len(text)+chunk-1)/chunk) }

// hash sets the values of texts, of which the first chunk has the number base. Their roots have
// the flags.
func (s *hasher) hash(texts [][]byte, base uint64, flags uint32) {
	at := 0
	for i, text := range texts {
		n := chunks(text)
		s.tree[i].at, s.tree[i].n = at, n
		of := uint32(0)
		if n == 1 {
			of = flags
		}
		for c := range n {
			s.leaf(text[c*chunk:min(len(text), (c+1)*chunk)], base+uint64(c), of, at)
			at++
		}
	}
	s.flushChunks()
	for s.level(s.tree[:len(texts)], flags) {
	}
}

// leaf adds a chunk to the lanes (section 2.4).
func (s *hasher) leaf(text []byte, number uint64, flags uint32, to int) {
	if s.used == width {
		s.flushChunks()
	}
	j, l := s.used, &s.chunks
	s.used++
	l.to[j] = unsafe.Pointer(&s.values[to])
	l.low[j], l.high[j] = uint32(number), uint32(number>>32)
	if len(text) == chunk && flags == 0 {
		l.block[j] = unsafe.Pointer(unsafe.SliceData(text))
		return
	}
	s.uneven = true
	last, tail := max(0, (len(text)-1)/block), &s.tails[j]
	clear(tail[copy(tail[:], text) : (last+1)*block])
	l.block[j] = unsafe.Pointer(tail)
	l.end[j], l.last[j], l.rest[j] = chunkEnd|flags, uint32(last), uint32(len(text)-last*block)
}

// flushChunks hashes the chunks that are in the lanes.
func (s *hasher) flushChunks() {
	if s.used == 0 {
		return
	}
	l, blocks := &s.chunks, uint64(chunk/block)
	if s.uneven {
		blocks = uint64(slices.Max(l.last[:s.used])) + 1
	}
	s.run(l, blocks)
	if s.uneven {
		l.set(chunkStart, chunkEnd, chunk/block-1, s.tails[0][:])
		s.uneven = false
	}
}

// level replaces pairs of values by that of their parent, in all trees, and tells whether there
// were any (section 2.5). A value without a partner stays for the next level.
func (s *hasher) level(trees []struct{ at, n int }, flags uint32) (any bool) {
	for _, t := range trees {
		of := uint32(0)
		if t.n == 2 {
			of = flags
		}
		for c := range t.n / 2 {
			s.parent(&s.values[t.at+2*c], of, t.at+c)
			any = true
		}
	}
	s.flushParents()
	for i, t := range trees {
		if t.n%2 == 1 {
			s.values[t.at+t.n/2] = s.values[t.at+t.n-1]
		}
		trees[i].n = (t.n + 1) / 2
	}
	return any
}

// parent adds the parent of two values that follow each other to the lanes.
func (s *hasher) parent(two *value, flags uint32, to int) {
	if s.used == width {
		s.flushParents()
	}
	j, l := s.used, &s.parents
	s.used++
	l.block[j], l.end[j], l.to[j] = unsafe.Pointer(two), flags, unsafe.Pointer(&s.values[to])
}

// flushParents hashes the parents that are in the lanes.
func (s *hasher) flushParents() {
	if s.used > 0 {
		s.run(&s.parents, 1)
	}
}

// run hashes what is in the lanes, and empties them.
func (s *hasher) run(l *lanes, blocks uint64) {
	for j := s.used; j < width; j++ {
		l.block[j] = unsafe.Pointer(&s.tails[0]) // not what was hashed before: it may be gone
		l.to[j] = unsafe.Pointer(&s.nowhere)
	}
	run(l, blocks)
	s.used = 0
}
