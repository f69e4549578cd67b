package files

import (
	"encoding/binary"
	"math/bits"

	"github.com/cespare/xxhash/v2"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
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

const (
	manifestsHead = "grayloft-manifests 1\n"
	manifestSize  = 24 + digest.Size
	manifestsKept = 50_000 // in addition to those of the last run
)

func (m *Memory) loadManifests(file string) {
	body := opened(manifestsHead, file)
	le := binary.LittleEndian
	for ; len(body) >= manifestSize; body = body[manifestSize:] {
		m.manifests[rowSum{le.Uint64(body), le.Uint64(body[8:]), le.Uint64(body[16:])}] = digest.Digest(body[24:manifestSize])
	}
}

func (m *Memory) saveManifests(file string) error {
	if !m.learned {
		return nil
	}
	m.learned = false
	le := binary.LittleEndian
	var body []byte
	others := 0
	for s, d := range m.manifests {
		if !m.used[s] {
			if others++; others > manifestsKept {
				continue
			}
		}
		body = le.AppendUint64(le.AppendUint64(le.AppendUint64(body, s.lo), s.hi), s.rows)
		body = append(body, d[:]...)
	}
	return WriteFile(file, sealed(manifestsHead, body))
}
