package statefile

import (
	"bytes"
	"encoding/hex"

	"grayloft.example/grayloft/internal/core/digest"
)

// sumLength is how many hex digits of a digest follow a line: enough to detect
// accidental damage.
const sumLength = 16

// SealLine returns a line followed by a tab and the start of its digest, so that
// [OpenLine] can detect changes.
func SealLine(line []byte) []byte {
	sum := digest.Of(line)
	return hex.AppendEncode(append(bytes.Clone(line), '\t'), sum[:sumLength/2])
}

// OpenLine returns the line that [SealLine] was given, unless it has changed
// since.
func OpenLine(line []byte) ([]byte, bool) {
	line = bytes.TrimRight(line, "\n")
	i := bytes.LastIndexByte(line, '\t')
	if i < 0 {
		return nil, false
	}
	var room [sumLength]byte
	sum := digest.Of(line[:i])
	if !bytes.Equal(line[i+1:], hex.AppendEncode(room[:0], sum[:sumLength/2])) {
		return nil, false
	}
	return line[:i], true
}
