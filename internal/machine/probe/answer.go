package probe

import (
	"bytes"
	"fmt"
	"hash"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
)

// mostText is how many bytes of an answer are part of the key as they are. Of a longer one, as
// that of a package manager about everything that is installed, the rest is part of it by the
// digest of the whole.
const mostText = 64 << 10

// answer is what a probe prints.
type answer struct {
	head bytes.Buffer
	size int64
	sum  hash.Hash // nil: all of it is in head
}

func (a *answer) Write(p []byte) (int, error) {
	a.size += int64(len(p))
	room := min(mostText-a.head.Len(), len(p))
	if room < len(p) && a.sum == nil {
		a.sum = digest.New()
		a.sum.Write(a.head.Bytes())
		a.sum.Write(p[:room])
	}
	a.head.Write(p[:room])
	if a.sum != nil {
		a.sum.Write(p[room:])
	}
	return len(p), nil
}

// String returns the text that is part of the key.
func (a *answer) String() string {
	if a.sum == nil {
		return strings.TrimRight(a.head.String(), "\n")
	}
	head := a.head.Bytes()
	head = head[:bytes.LastIndexByte(head, '\n')+1] // no part of a line, nor of a character
	return fmt.Sprintf("%s… %d bytes in all, with the digest %s", head, a.size, digest.From(a.sum))
}
