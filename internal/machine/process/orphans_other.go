//go:build !linux

package process

func adoptOrphans() {}

// awaitExit does not wait here: the caller's own wait does.
func awaitExit(int) bool { return false }

func endRest(string) {}

// endStrays does nothing here: what left its group does not come to us.
func endStrays() {}
