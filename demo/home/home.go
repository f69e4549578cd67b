// Package home says where the demonstration keeps its files.
package home

import (
	"os"
	"path/filepath"
	"strings"
)

// Dir returns the directory of the demonstration, given the one that was asked
// for. PostgreSQL does not run as root, and its own user must be able to reach
// the directory: for root it is elsewhere if the one asked for is closed.
func Dir(asked string) (string, error) {
	dir, err := filepath.Abs(asked)
	if err == nil && os.Geteuid() == 0 && !open(filepath.Dir(dir)) {
		dir = filepath.Join("/var/tmp", "grayloft-demo"+strings.ReplaceAll(dir, "/", "-"))
	}
	return dir, err
}

// open tells whether everyone may pass through a directory and its parents.
func open(dir string) bool {
	for {
		info, err := os.Stat(dir)
		if err != nil || info.Mode()&0o001 == 0 {
			return false
		}
		if dir == filepath.Dir(dir) {
			return true
		}
		dir = filepath.Dir(dir)
	}
}
