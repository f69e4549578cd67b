package files

import (
	"bytes"

	"grayloft.example/grayloft/internal/core/digest"
)

// sumLength is how much of a digest follows a line: enough to detect accidental
// damage.
const sumLength = 16

// Summed returns a line of a state file followed by a tab and the start of its
// digest, so that [Unsummed] can detect changes.
func Summed(line []byte) []byte {
	return append(append(bytes.Clone(line), '\t'), digest.Of(line).String()[:sumLength]...)
}

// Unsummed returns the line that [Summed] was given, unless it has changed
// since.
func Unsummed(line []byte) ([]byte, bool) {
	line = bytes.TrimRight(line, "\n")
	i := bytes.LastIndexByte(line, '\t')
	if i < 0 || string(line[i+1:]) != digest.Of(line[:i]).String()[:sumLength] {
		return nil, false
	}
	return line[:i], true
}
