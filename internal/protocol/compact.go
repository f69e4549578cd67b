package protocol

import (
	"fmt"

	"github.com/fxamacker/cbor/v2"
)

// TypeCompact is the media type of CBOR (RFC 8949): the same fields as in JSON, with digests as
// byte strings of 32 bytes and times as seconds since 1970. A client asks for it.
const TypeCompact = "application/cbor"

// Bounds of what is decoded: each value takes more memory than its encoding.
const (
	mostElements = 200_000
	mostFields   = 64
	mostLevels   = 8
)

var (
	compactly = must(cbor.EncOptions{
		Time: cbor.TimeUnixDynamic, OmitEmpty: cbor.OmitEmptyGoValue,
	}.EncMode())
	strictly = must(cbor.DecOptions{
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

// Compact encodes an answer.
func Compact(answer any) ([]byte, error) { return compactly.Marshal(answer) }

// ReadCompact decodes an answer from elsewhere.
func ReadCompact(text []byte, answer any) error {
	if err := strictly.Unmarshal(text, answer); err != nil {
		return fmt.Errorf("its answer cannot be read: %w", err)
	}
	return nil
}
