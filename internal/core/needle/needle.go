// Package needle finds one text in many, such as a checkout's path in everything that a task wrote.
//
// Where the standard library looks for the first byte of a text, which in a path is one of the most
// frequent ones, this looks for two bytes of it at their distance, 32 places at a time: the two that
// are likely to be the rarest. That needs AVX2; elsewhere, the standard library is used.
package needle

import (
	"bytes"
	"slices"
	"strings"
)

// Needle is a text to be found. It is safe for concurrent use.
type Needle struct {
	text          []byte
	first, second int // positions of the two bytes
}

// common are the bytes that paths, programs and markup have most of, the most frequent first.
const common = "/ e0tairnsol\nd.\"cpu1mfg-h,_2b"

// New returns a needle.
func New(text string) *Needle {
	n := &Needle{text: []byte(text)}
	rank := func(i int) int { // the higher, the rarer
		if at := strings.IndexByte(common, text[i]); at >= 0 {
			return at
		}
		return len(common)
	}
	at := make([]int, len(text))
	for i := range at {
		at[i] = i
	}
	slices.SortStableFunc(at, func(a, b int) int { return rank(b) - rank(a) })
	if len(at) >= 2 {
		n.first, n.second = min(at[0], at[1]), max(at[0], at[1])
	}
	return n
}

// Len returns the length of the text in bytes.
func (n *Needle) Len() int { return len(n.text) }

// Index returns where the text is first in the data; -1 if it is not.
func (n *Needle) Index(data []byte) int {
	if !available || len(n.text) < 2 {
		return bytes.Index(data, n.text)
	}
	for start := 0; ; {
		places := (len(data) - len(n.text) - start + 1) &^ (width - 1)
		if places <= 0 {
			if i := bytes.Index(data[start:], n.text); i >= 0 {
				return start + i
			}
			return -1
		}
		i := pair(&data[start+n.first], places, n.second-n.first, n.text[n.first], n.text[n.second])
		switch {
		case i < 0:
			start += places
		case bytes.Equal(data[start+i:][:len(n.text)], n.text):
			return start + i
		default:
			start += i + 1
		}
	}
}
