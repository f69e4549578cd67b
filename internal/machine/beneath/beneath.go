// Package beneath opens directories of a repository without going through links: a task can replace
// any directory below its project by a link to somewhere else.
package beneath

import (
	"errors"
	"fmt"
	"os"
	"path"
	"strings"
)

// ErrNoDirectory is wrapped by errors about a part of the way that is a link or a file: what is
// behind a link is there for others, so it cannot be said to be absent.
var ErrNoDirectory = errors.New("is a link or a file, not a directory")

// OpenRoot opens a directory, given with slashes, beneath a root. No part of the way may be a link:
// the error then wraps [ErrNoDirectory]. It wraps [fs.ErrNotExist] if there is no such directory.
func OpenRoot(root, dir string) (*os.Root, error) {
	at, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	if dir = path.Clean(dir); dir == "." {
		return at, nil
	}
	for seg := range strings.SplitSeq(dir, "/") {
		next, err := openStep(at, seg)
		at.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: %s %w", dir, seg, err)
		}
		at = next
	}
	return at, nil
}

// openStep opens a directory in another one, which is compared with what was
// there before, so that a link put there meanwhile is noticed.
func openStep(at *os.Root, seg string) (*os.Root, error) {
	info, err := at.Lstat(seg)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, ErrNoDirectory
	}
	next, err := at.OpenRoot(seg)
	if err != nil {
		return nil, err
	}
	now, err := next.Stat(".")
	if err != nil || !os.SameFile(info, now) {
		next.Close()
		return nil, ErrNoDirectory
	}
	return next, nil
}

// OpenFolder opens a directory, given with slashes, beneath a root, to look for names in it. As
// for [OpenRoot], no part of the way may be a link.
func OpenFolder(root, dir string) (*Folder, error) {
	at, err := openTop(root)
	if dir = path.Clean(dir); err != nil || dir == "." {
		return at, err
	}
	for seg := range strings.SplitSeq(dir, "/") {
		next, err := at.Open(seg)
		at.Close()
		if err != nil {
			return nil, err
		}
		at = next
	}
	return at, nil
}
