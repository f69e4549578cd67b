//go:build unix

package outputs

import (
	"os"

	"golang.org/x/sys/unix"
)

// moveInto moves a file from one open directory to another.
func moveInto(from *os.File, name string, to *os.File, as string) error {
	err := unix.Renameat(int(from.Fd()), name, int(to.Fd()), as)
	if err != nil {
		return &os.LinkError{Op: "rename", Old: name, New: as, Err: err}
	}
	return nil
}
