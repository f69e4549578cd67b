//go:build unix

package runner

import "golang.org/x/sys/unix"

// freeBytes returns how many bytes are free for this user on the disk of a directory.
func freeBytes(dir string) (free int64, known bool) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, false
	}
	return int64(st.Bavail) * int64(st.Bsize), true
}
