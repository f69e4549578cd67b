//go:build unix

package probe

import (
	"io/fs"
	"syscall"
)

// links returns how many names a file has.
func links(info fs.FileInfo) uint64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(st.Nlink)
	}
	return 1
}
