//go:build !linux && !darwin

package files

import (
	"io/fs"
	"os"
)

// Reading returns the file system below a root.
func Reading(root string) fs.FS { return os.DirFS(root) }
