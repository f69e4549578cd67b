//go:build !linux && !darwin

package files

import "io/fs"

// Without a change time that programs cannot set, digests are not remembered:
// every file is read each time.
func stampOf(fs.FileInfo) (stamp, bool) { return stamp{}, false }

// StatusOf returns nothing.
func StatusOf(int) Status { return Status{} }

func executable(info fs.FileInfo) bool { return info.Mode()&0o100 != 0 }

// regular tells whether the status is of a regular file; here, that is not known.
func (stamp) regular() bool { return false }

func isNotDir(error) bool { return false }
