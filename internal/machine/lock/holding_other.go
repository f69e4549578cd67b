//go:build !unix

package lock

import "os"

// holding runs do while it holds the lock of an open file.
func holding(f *os.File, do func() error) error { return Hold(f.Name(), do) }
