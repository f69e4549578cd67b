package files

import (
	"bytes"

	"grayloft.example/grayloft/internal/core/digest"
)

// sumLength is how much of a digest stands behind a line: enough against
// chance.
const sumLength = 16

// Summed returns a line of a state file with a tab and the beginning of its
// digest behind it, so that [Unsummed] can tell whether it is as it was
// written.
func Summed(line []byte) []byte {
	return append(append(bytes.Clone(line), '\t'), digest.Of(line).String()[:sumLength]...)
}

// Unsummed returns what [Summed] was given, unless something of it has changed
// since.
func Unsummed(line []byte) ([]byte, bool) {
	line = bytes.TrimRight(line, "\n")
	i := bytes.LastIndexByte(line, '\t')
	if i < 0 || string(line[i+1:]) != digest.Of(line[:i]).String()[:sumLength] {
		return nil, false
	}
	return line[:i], true
}
