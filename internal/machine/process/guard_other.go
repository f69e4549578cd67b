//go:build !linux

package process

// Guard does nothing on this system: the tasks of a killed client continue to
// their end.
func Guard(string) {}

// Unguard does nothing on this system.
func Unguard() {}

// Enter does nothing on this system.
func Enter() {}

// EndRun does nothing on this system: processes do not show which task they
// belong to.
func EndRun(string) {}
