//go:build !unix

package outputs

import (
	"os"
	"path/filepath"
)

// moveInto moves a file from one open directory to another.
func moveInto(from *os.File, name string, to *os.File, as string) error {
	return os.Rename(filepath.Join(from.Name(), name), filepath.Join(to.Name(), as))
}
