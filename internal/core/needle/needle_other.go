//go:build !amd64

package needle

const available = false

const width = 32

func pair(*byte, int, int, byte, byte) int { panic("needle: not available") }
