package protocol

import (
	"fmt"
	"time"

	"github.com/fxamacker/cbor/v2"

	"grayloft.example/grayloft/internal/core/digest"
)

// TypeCompact is the media type of answers to lookups in CBOR (RFC 8949), in the form that
// [CompactLookup] describes. A client asks for it; a service that does not know it answers in
// JSON.
const TypeCompact = "application/vnd.grayloft.lookup+cbor"

// Bounds of what is decoded: each value takes more memory than its encoding.
const (
	mostElements = 200_000
	mostFields   = 64
	mostLevels   = 8
)

var strictly = must(cbor.DecOptions{
	DupMapKey: cbor.DupMapKeyEnforcedAPF, MaxArrayElements: mostElements, MaxMapPairs: mostFields, MaxNestedLevels: mostLevels,
	IndefLength: cbor.IndefLengthForbidden, TagsMd: cbor.TagsForbidden,
}.DecMode())

func must[T any](mode T, err error) T {
	if err != nil {
		panic(err) // options of this file that contradict each other
	}
	return mode
}

// compactLookup is an answer to a lookup, version 1. Many entries have the same maker, which is
// said once.
type compactLookup struct {
	Version int            `cbor:"version"`
	Makers  []compactMaker `cbor:"made_by"`
	Entries []compactEntry `cbor:"entries"`
}

const (
	compactVersion = 1
	compactFields  = 14  // of an entry
	entryRoom      = 256 // bytes of an entry without its texts and refs
)

// compactMaker is an array: name, host, place, run.
type compactMaker struct {
	_                      struct{} `cbor:",toarray"`
	Name, Host, Place, Run string
}

// compactEntry is an array, with digests as byte strings: 32 bytes, or none.
type compactEntry struct {
	_             struct{} `cbor:",toarray"`
	Shelf, Task   string
	Key, EarlyKey []byte
	Listing       []byte
	Log           []byte
	Ingredients   []byte
	Reports       []byte
	Seconds       float64
	Bytes         int64
	Maker         int   // in the table
	MadeAt        int64 // microseconds since 1970
	CheckoutPaths []string
	Refs          [][]byte
}

// CompactLookup encodes an answer to a lookup: a map of the version, which is 1, the table
// made_by, in which each maker is an array of name, host, place and run, and entries. Each of
// these is an array of shelf, task, key, early key, listing, log, ingredients, reports, seconds,
// bytes, the number of its maker in the table, the time at which it was made in microseconds
// since 1970, checkout paths, and refs. Digests are byte strings.
func CompactLookup(answer LookupAnswer) []byte {
	makers, numbers := makersOf(answer.Entries)
	room := entryRoom
	for i := range answer.Entries {
		e := &answer.Entries[i]
		room += entryRoom + len(e.Shelf) + len(e.Task) + len(e.Refs)*(digest.Size+2)
	}
	c := make(cborItems, 0, room)
	c = c.head(cborMap, 3).text("version").integer(compactVersion)
	c = c.text("made_by").list(len(makers))
	for _, m := range makers {
		c = c.list(4).text(m.Name).text(m.Host).text(m.Place).text(m.Run)
	}
	c = c.text("entries").head(cborArray, uint64(len(answer.Entries)))
	for i := range answer.Entries {
		c = c.entry(&answer.Entries[i], numbers[i])
	}
	return c
}

// makersOf returns the table of makers, and the number in it of each entry's.
func makersOf(entries []Entry) (makers []compactMaker, numbers []int) {
	known := map[compactMaker]int{}
	numbers = make([]int, len(entries))
	for i := range entries {
		by := &entries[i].MadeBy
		m := compactMaker{Name: by.Name, Host: by.Host, Place: by.Place, Run: by.Run}
		if i > 0 && m == makers[numbers[i-1]] {
			numbers[i] = numbers[i-1]
			continue
		}
		n, ok := known[m]
		if !ok {
			n = len(makers)
			makers, known[m] = append(makers, m), n
		}
		numbers[i] = n
	}
	return makers, numbers
}

// ReadCompactLookup decodes an answer from elsewhere.
func ReadCompactLookup(text []byte) (answer LookupAnswer, err error) {
	var in compactLookup
	if err := strictly.Unmarshal(text, &in); err != nil {
		return answer, fmt.Errorf("its answer cannot be read: %w", err)
	}
	if in.Version != compactVersion {
		return answer, fmt.Errorf("its answer has the version %d; this client reads %d", in.Version, compactVersion)
	}
	answer.Entries = make([]Entry, len(in.Entries))
	for i := range in.Entries {
		if err := in.expand(i, &answer.Entries[i]); err != nil {
			return LookupAnswer{}, fmt.Errorf("its answer cannot be read: entry %d: %w", i+1, err)
		}
	}
	return answer, nil
}

func (in *compactLookup) expand(i int, to *Entry) error {
	e := &in.Entries[i]
	if e.Maker < 0 || e.Maker >= len(in.Makers) {
		return fmt.Errorf("there is no maker %d", e.Maker)
	}
	m := in.Makers[e.Maker]
	*to = Entry{
		Shelf: e.Shelf, Task: e.Task, Seconds: e.Seconds, Bytes: e.Bytes, CheckoutPaths: e.CheckoutPaths,
		MadeBy: Maker{Name: m.Name, Host: m.Host, Place: m.Place, Run: m.Run, At: time.UnixMicro(e.MadeAt).UTC()},
	}
	if len(e.Refs) > 0 {
		to.Refs = make([]digest.Digest, len(e.Refs))
	}
	var first error
	read := func(d *digest.Digest, b []byte) {
		got, err := digest.FromBytes(b)
		switch {
		case len(b) == 0: // none
		case err == nil:
			*d = got
		case first == nil:
			first = err
		}
	}
	read(&to.Key, e.Key)
	read(&to.EarlyKey, e.EarlyKey)
	read(&to.Listing, e.Listing)
	read(&to.Log, e.Log)
	read(&to.Ingredients, e.Ingredients)
	read(&to.Reports, e.Reports)
	for j, b := range e.Refs {
		read(&to.Refs[j], b)
	}
	return first
}
