//go:build linux || darwin

package files

import (
	"errors"
	"io/fs"
	"syscall"
)

func stampOf(info fs.FileInfo) (stamp, bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return stamp{}, false
	}
	m, c := times(st)
	return stamp{Dev: uint64(st.Dev), Ino: uint64(st.Ino), Size: st.Size, Mode: uint32(st.Mode), Mtime: m, Ctime: c}, true
}

func executable(info fs.FileInfo) bool { return info.Mode()&0o100 != 0 }

func isNotDir(err error) bool { return errors.Is(err, syscall.ENOTDIR) }
