//go:build !linux

package process

func adoptOrphans() {}

// awaitExit does nothing on this system: the caller's own wait does it.
func awaitExit(int) bool { return false }

func endRest(string) {}

// endStrays does nothing on this system: a process that left its group is not
// adopted.
func endStrays() {}
