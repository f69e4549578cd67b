package files

import (
	"encoding/binary"
	"math/bits"

	"github.com/cespare/xxhash/v2"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// rowSum identifies a set of rows: the sum, modulo 2^128, of a number per row
// that is computed from its path, kind and digest. Sets that differ in contents
// have equal sums with probability of about 2^-128, sets that differ only in
// paths 2^-64. It never leaves this machine, and protects against chance only.
type rowSum struct{ lo, hi, rows uint64 }

func (s *rowSum) add(r listing.Row) {
	name := xxhash.Sum64String(r.Path)
	lo, hi := name^uint64(r.Kind)*0x9e3779b97f4a7c15, bits.RotateLeft64(name, 29)*0xbf58476d1ce4e5b9
	if d, ok := r.Blob(); ok {
		lo += binary.LittleEndian.Uint64(d[:8]) * 0x94d049bb133111eb
		hi ^= binary.LittleEndian.Uint64(d[8:16])
	} else {
		lo += xxhash.Sum64String(r.Target) * 0x94d049bb133111eb
		hi ^= bits.RotateLeft64(xxhash.Sum64String(r.Target), 17)
	}
	var carry uint64
	s.lo, carry = bits.Add64(s.lo, lo, 0)
	s.hi, _ = bits.Add64(s.hi, hi, carry)
	s.rows++
}

// manifestOf returns the digest of the manifests of a set of rows, if it is
// remembered.
func (m *Memory) manifestOf(s rowSum) (digest.Digest, bool) {
	m.load()
	m.mu.Lock()
	defer m.mu.Unlock()
	d, ok := m.manifests[s]
	if ok {
		m.used[s] = true
	}
	return d, ok
}

func (m *Memory) noteManifest(s rowSum, d digest.Digest) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.manifests[s], m.used[s] = d, true
	m.learned = true
}

// manifestsKept limits how many digests are kept in addition to those of the
// last run.
const manifestsKept = 50_000

// manifestsFormat has, for each set of rows, its sum and the digest.
var manifestsFormat = statefile.Register(statefile.Format[map[rowSum]digest.Digest]{
	Name: "manifests", Version: 2,
	Encode: func(w *statefile.Writer, known map[rowSum]digest.Digest) {
		for s, d := range known {
			w.Fixed(s.lo)
			w.Fixed(s.hi)
			w.Fixed(s.rows)
			w.Digest(d)
		}
	},
	Decode: func(r *statefile.Reader) map[rowSum]digest.Digest {
		known := map[rowSum]digest.Digest{}
		for r.More() {
			s := rowSum{r.Fixed(), r.Fixed(), r.Fixed()}
			known[s] = r.Digest()
		}
		return known
	},
})

func (m *Memory) loadManifests(file string) {
	if known, ok := manifestsFormat.Load(file); ok {
		m.manifests = known
	}
}

func (m *Memory) saveManifests(file string) error {
	if !m.learned {
		return nil
	}
	m.learned = false
	kept := map[rowSum]digest.Digest{}
	others := 0
	for s, d := range m.manifests {
		if !m.used[s] {
			if others++; others > manifestsKept {
				continue
			}
		}
		kept[s] = d
	}
	return manifestsFormat.Save(file, kept)
}
