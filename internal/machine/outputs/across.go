package outputs

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"syscall"
)

// isAcross tells whether a file could not be moved because its new place is on another file
// system: a directory of outputs may be a mount of its own.
func isAcross(err error) bool { return errors.Is(err, syscall.EXDEV) }

// rename moves a file or a link within the checkout, to another file system as well.
func rename(top *os.Root, from, to string) error {
	err := top.Rename(from, to)
	if isAcross(err) {
		err = carry(top, from, top, to)
	}
	return err
}

// carry moves a file or a link to another file system: it gets its name there when it is
// complete, and then loses the old one. An error leaves it where it was.
func carry(from *os.Root, name string, to *os.Root, as string) error {
	info, err := from.Lstat(name)
	if err != nil {
		return err
	}
	temp := path.Join(path.Dir(as), ".grayloft-"+rand.Text())
	if info.Mode()&fs.ModeSymlink != 0 {
		err = copyLink(from, name, to, temp)
	} else {
		err = copyFile(from, name, to, temp, info)
	}
	if err == nil {
		err = to.Rename(temp, as)
	}
	if err != nil {
		_ = to.Remove(temp)
		return err
	}
	return from.Remove(name)
}

func copyLink(from *os.Root, name string, to *os.Root, as string) error {
	target, err := from.Readlink(name)
	if err != nil {
		return err
	}
	return to.Symlink(target, as)
}

// copyFile copies contents, mode and time of a file that must not change meanwhile.
func copyFile(from *os.Root, name string, to *os.Root, as string, info fs.FileInfo) error {
	in, err := from.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // never waits for the writer of a pipe
	if err != nil {
		return err
	}
	defer in.Close()
	if now, err := in.Stat(); err != nil || !os.SameFile(info, now) || !info.Mode().IsRegular() {
		return errors.Join(errReplaced, err)
	}
	out, err := to.OpenFile(as, os.O_WRONLY|os.O_CREATE|os.O_EXCL, info.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Chmod(info.Mode().Perm())
	}
	if cerr := out.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = to.Chtimes(as, info.ModTime(), info.ModTime())
	}
	if err != nil {
		return err
	}
	if now, err := from.Lstat(name); err != nil || !isUnchanged(info, now) {
		return errors.Join(fmt.Errorf("%s changed while it was moved to another file system: run again", name), err)
	}
	return nil
}

// isUnchanged tells whether a file is the same one, and was not written.
func isUnchanged(a, b fs.FileInfo) bool {
	return os.SameFile(a, b) && a.Size() == b.Size() && a.ModTime().Equal(b.ModTime())
}
