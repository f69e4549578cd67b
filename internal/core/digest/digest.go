// Package digest holds the one digest that Gray Loft uses for all
// content-addressed data: BLAKE3 with 256 bits of output, lower-case hex in
// text and 32 bytes in storage (https://github.com/BLAKE3-team/BLAKE3-specs).
//
// Plain digests identify bytes (files, listings, manifests, logs). Keys are
// computed in derive-key mode under a versioned context, so a key can never be
// mistaken for the digest of a file, nor one version of a format for another.
package digest

import (
	"encoding/hex"
	"fmt"
	"hash"
	"slices"

	"github.com/zeebo/blake3"

	"grayloft.example/grayloft/internal/core/digest/wide"
)

// Size is the length of a digest in bytes.
const Size = 32

// Digest identifies bytes by their content. The zero value means "none" and is
// never the digest of anything.
type Digest [Size]byte

// Of returns the digest of b.
func Of(b []byte) Digest {
	if wide.Available {
		return wide.Sum(b)
	}
	return blake3.Sum256(b)
}

// Together is how many bytes of small texts [OfEach] hashes best in a call.
const Together = wide.Together

// OfEach returns the digests of several texts in list, which grows as necessary. For small ones it
// is up to five times as fast as [Of].
func OfEach(texts [][]byte, list []Digest) []Digest {
	list = slices.Grow(list[:0], len(texts))[:len(texts)]
	if wide.Available && len(texts) > 1 {
		wide.SumAll(texts, list)
		return list
	}
	for i, text := range texts {
		list[i] = Of(text)
	}
	return list
}

// New returns a hash whose sum becomes a Digest through [From].
func New() hash.Hash {
	if wide.Available {
		return wide.New()
	}
	return blake3.New()
}

// Derive returns the digest of material in derive-key mode under a context.
func Derive(context string, material []byte) Digest {
	var d Digest
	blake3.DeriveKey(context, material, d[:])
	return d
}

// From takes the final sum of a hash that [New] returned.
func From(h hash.Hash) Digest {
	var d Digest
	h.Sum(d[:0])
	return d
}

// FromBytes reads the 32 bytes of a stored digest.
func FromBytes(b []byte) (Digest, error) {
	var d Digest
	if len(b) != Size {
		return d, fmt.Errorf("a digest has %d bytes, this one has %d", Size, len(b))
	}
	copy(d[:], b)
	return d, nil
}

// Parse reads a digest from its text form: 64 lower-case hex digits.
func Parse(s string) (Digest, error) { return parse(s) }

// ParseText is [Parse] for bytes.
func ParseText(b []byte) (Digest, error) { return parse(b) }

func parse[T string | []byte](s T) (Digest, error) {
	var d Digest
	if len(s) != 2*Size {
		return d, fmt.Errorf("%.80q is not a digest: it must have 64 hex digits", s)
	}
	for i := range d {
		high, low := digit[s[2*i]], digit[s[2*i+1]]
		if high > 15 || low > 15 {
			return Digest{}, fmt.Errorf("%q is not a digest: it must contain only 0-9 and a-f", s)
		}
		d[i] = high<<4 | low
	}
	if d.IsZero() { // which nothing has, and would be taken for none
		return d, fmt.Errorf("%q is not a digest: it must not be zero", s)
	}
	return d, nil
}

// digit is the value of each lower-case hex digit; of other bytes it is above 15.
var digit = func() (of [256]byte) {
	for c := range of {
		of[c] = 0xff
	}
	for i, c := range []byte("0123456789abcdef") {
		of[c] = byte(i)
	}
	return of
}()

// IsZero tells whether d means "none".
func (d Digest) IsZero() bool { return d == Digest{} }

// String returns the 64 hex digits, or "" for the zero digest.
func (d Digest) String() string {
	if d.IsZero() {
		return ""
	}
	return hex.EncodeToString(d[:])
}

// Append appends the 64 hex digits, or nothing for the zero digest.
func (d Digest) Append(b []byte) []byte {
	if d.IsZero() {
		return b
	}
	return hex.AppendEncode(b, d[:])
}

// Short returns the first twelve hex digits, for people.
func (d Digest) Short() string {
	if d.IsZero() {
		return "none"
	}
	return hex.EncodeToString(d[:6])
}

// MarshalText writes the text form.
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads the text form; an empty text is the zero digest.
func (d *Digest) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		*d = Digest{}
		return nil
	}
	p, err := parse(b)
	if err == nil {
		*d = p
	}
	return err
}
