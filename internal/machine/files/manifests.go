package files

import (
	"encoding/binary"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// rowSet identifies a set of rows: the BLAKE3 digest of its rows in path order, each with its kind,
// path, and digest or target. Names and contents can be chosen by whoever writes a repository, so
// nothing weaker will do.
type rowSet = digest.Digest

// appendRow adds a row to what a [rowSet] is computed from. Texts are behind their lengths, so that
// no two rows look like one.
func appendRow(b []byte, r listing.Row) []byte {
	b = append(b, byte(r.Kind))
	b = append(binary.AppendUvarint(b, uint64(len(r.Path))), r.Path...)
	if d, ok := r.Blob(); ok {
		return append(b, d[:]...)
	}
	return append(binary.AppendUvarint(b, uint64(len(r.Target))), r.Target...)
}

// manifestOf returns the digest of the manifests of a set of rows, if it is
// remembered.
func (m *Memory) manifestOf(s rowSet) (digest.Digest, bool) {
	m.load()
	m.mu.Lock()
	defer m.mu.Unlock()
	d, ok := m.manifests[s]
	if ok {
		m.used[s] = true
	}
	return d, ok
}

func (m *Memory) noteManifest(s rowSet, d digest.Digest) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.manifests[s], m.used[s] = d, true
	m.learned = true
}

// manifestsKept limits how many digests are kept in addition to those of the
// last run.
const manifestsKept = 50_000

// manifestsFormat has, for each set of rows, what identifies it and the digest.
var manifestsFormat = statefile.Register(statefile.Format[map[rowSet]digest.Digest]{
	Name: "manifests", Version: 3,
	Encode: func(w *statefile.Writer, known map[rowSet]digest.Digest) {
		for s, d := range known {
			w.Digest(s)
			w.Digest(d)
		}
	},
	Decode: func(r *statefile.Reader) map[rowSet]digest.Digest {
		known := map[rowSet]digest.Digest{}
		for r.More() {
			s := r.Digest()
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
	kept := map[rowSet]digest.Digest{}
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
