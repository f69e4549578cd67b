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

var (
	compactly = must(cbor.EncOptions{}.EncMode())
	strictly  = must(cbor.DecOptions{
		DupMapKey: cbor.DupMapKeyEnforcedAPF, MaxArrayElements: mostElements, MaxMapPairs: mostFields, MaxNestedLevels: mostLevels,
		IndefLength: cbor.IndefLengthForbidden, TagsMd: cbor.TagsForbidden,
	}.DecMode())
)

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

const compactVersion = 1

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
func CompactLookup(answer LookupAnswer) ([]byte, error) {
	out := compactLookup{Version: compactVersion, Entries: make([]compactEntry, len(answer.Entries))}
	numbers := map[compactMaker]int{}
	for i := range answer.Entries {
		e := &answer.Entries[i]
		maker := compactMaker{Name: e.MadeBy.Name, Host: e.MadeBy.Host, Place: e.MadeBy.Place, Run: e.MadeBy.Run}
		n, known := numbers[maker]
		if !known {
			n = len(out.Makers)
			out.Makers, numbers[maker] = append(out.Makers, maker), n
		}
		out.Entries[i] = compactEntry{
			Shelf: e.Shelf, Task: e.Task, Key: short(&e.Key), EarlyKey: short(&e.EarlyKey), Listing: short(&e.Listing), Log: short(&e.Log),
			Ingredients: short(&e.Ingredients), Reports: short(&e.Reports), Seconds: e.Seconds, Bytes: e.Bytes,
			Maker: n, MadeAt: e.MadeBy.At.UnixMicro(), CheckoutPaths: e.CheckoutPaths,
		}
		for j := range e.Refs {
			out.Entries[i].Refs = append(out.Entries[i].Refs, short(&e.Refs[j]))
		}
	}
	return compactly.Marshal(out)
}

// short returns the bytes of a digest without copying them.
func short(d *digest.Digest) []byte {
	if d.IsZero() {
		return nil
	}
	return d[:]
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
