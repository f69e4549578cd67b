package needle

import "golang.org/x/sys/cpu"

var available = cpu.X86.HasAVX2

// width is how many places are looked at together.
const width = 32

// pair returns the first of the places, whose number is a multiple of width, that has one byte
// there and the other one at a distance behind it; -1 if there is none. It reads no byte behind the
// last place and its distance.
//
//go:noescape
func pair(from *byte, places, distance int, first, second byte) int
