//go:build !amd64

package wide

// Available is false: these processors do not have the instructions.
const Available = false

func run(*lanes, uint64) { panic("wide: not available") }
