package graph

import (
	"iter"
	mathbits "math/bits"
)

// bits is a set of small numbers.
type bits []uint64

func newBits(n int) bits { return make(bits, (n+63)/64) }

func (b bits) set(i int)      { b[i/64] |= 1 << (i % 64) }
func (b bits) has(i int) bool { return i/64 < len(b) && b[i/64]&(1<<(i%64)) != 0 }

func (b bits) or(o bits) {
	for i, w := range o {
		b[i] |= w
	}
}

func (b bits) meets(o bits) bool {
	for i, w := range o {
		if b[i]&w != 0 {
			return true
		}
	}
	return false
}

func (b bits) all() iter.Seq[int] {
	return func(yield func(int) bool) {
		for i, w := range b {
			for w != 0 {
				if !yield(i*64 + mathbits.TrailingZeros64(w)) {
					return
				}
				w &= w - 1
			}
		}
	}
}
