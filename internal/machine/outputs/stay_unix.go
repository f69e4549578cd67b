//go:build unix

package outputs

import (
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// status is the part of a file's status that shows whether it was changed or replaced.
type status struct {
	ino          uint64
	links        uint64
	size         int64
	mode, owner  uint32
	mtime, ctime int64 // nanoseconds since 1970
}

// statusAt returns the status of a name in an open directory, without following a link.
func statusAt(dir *os.File, name string) (status, bool) {
	var st unix.Stat_t
	if err := unix.Fstatat(int(dir.Fd()), name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return status{}, false
	}
	return status{uint64(st.Ino), uint64(st.Nlink), st.Size, uint32(st.Mode), st.Uid, st.Mtim.Nano(), st.Ctim.Nano()}, true
}

// isAsRestored tells whether nobody could tell the file from one that was just written with a
// mode, but for its times.
func (s status) isAsRestored(mode fs.FileMode) bool {
	return s.mode == unix.S_IFREG|uint32(mode.Perm()) && s.links == 1 && s.owner == uint32(os.Geteuid())
}

// touchAt gives a name in an open directory the present time.
func touchAt(dir *os.File, name string) error {
	now := unix.NsecToTimespec(time.Now().UnixNano())
	times := []unix.Timespec{now, now}
	return os.NewSyscallError("utimensat", unix.UtimesNanoAt(int(dir.Fd()), name, times, unix.AT_SYMLINK_NOFOLLOW))
}
