package wide

import "golang.org/x/sys/cpu"

// Available tells whether this processor has the instructions, and the system keeps their registers.
var Available = cpu.X86.HasAVX512F

// run hashes the blocks of all lanes, up to so many of each, and writes the chaining values to where
// they belong: something undefined, if the last block of a lane is not among these.
//
//go:noescape
func run(l *lanes, blocks uint64)
