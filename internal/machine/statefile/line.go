package statefile

import (
	"bytes"

	"grayloft.example/grayloft/internal/core/digest"
)

// sumLength is how many hex digits of a digest follow a line: enough to detect
// accidental damage.
const sumLength = 16

// SealLine returns a line followed by a tab and the start of its digest, so that
// [OpenLine] can detect changes.
func SealLine(line []byte) []byte {
	return append(append(bytes.Clone(line), '\t'), digest.Of(line).String()[:sumLength]...)
}

// OpenLine returns the line that [SealLine] was given, unless it has changed
// since.
func OpenLine(line []byte) ([]byte, bool) {
	line = bytes.TrimRight(line, "\n")
	i := bytes.LastIndexByte(line, '\t')
	if i < 0 || string(line[i+1:]) != digest.Of(line[:i]).String()[:sumLength] {
		return nil, false
	}
	return line[:i], true
}
