//go:build !linux

package process

// CloseInherited does nothing here.
func CloseInherited() {}
