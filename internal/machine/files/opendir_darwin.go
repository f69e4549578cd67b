package files

import "golang.org/x/sys/unix"

// openDirectory opens a directory, relative to another, only to take statuses.
func openDirectory(root int, dir string) (int, error) {
	return unix.Openat(root, dir, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
}
