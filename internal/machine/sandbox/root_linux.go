package sandbox

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// rootDir is the directory of a stage on which the command's root is mounted.
const rootDir = "root"

// newRoot gives the process a root with nothing but the system's directories,
// those of the toolchains, and the stage.
func newRoot(o order) error {
	s := o.Stage
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return err
	}
	root := filepath.Join(s.Dir, rootDir)
	if err := os.Mkdir(root, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := mount("tmpfs", root, "mode=0755,size=4m"); err != nil {
		return err
	}
	r := &rootMaker{at: root}
	for _, dir := range system {
		if dir != "/proc" && dir != "/dev" {
			r.show(dir, false)
		}
	}
	r.devices()
	r.processes(o.Ability.Processes, s.Nesting)
	for _, dir := range []string{"/tmp", "/run", "/var/tmp"} {
		r.mkdir(dir)
	}
	readable := slices.Clone(s.Readable)
	slices.Sort(readable)
	for _, dir := range readable {
		r.show(dir, false)
	}
	for _, dir := range s.Writable {
		r.show(dir, true)
	}
	for _, file := range s.Files {
		r.showFile(file)
	}
	r.bind(s.Dir, o.Ability.At(s), false)
	r.hide(o.Hidden)
	if r.err != nil {
		return r.err
	}
	return enter(root)
}

// enter makes a directory the root of this process, and forgets the old one.
func enter(root string) error {
	if err := os.Chdir(root); err != nil {
		return err
	}
	// The old root is mounted over the new one, and removed (pivot_root(2)).
	if err := unix.PivotRoot(".", "."); err != nil {
		return fmt.Errorf("pivot_root: %w", err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return err
	}
	if err := os.Chdir("/"); err != nil {
		return err
	}
	return readOnly("/", false)
}

func mount(kind, at, options string) error {
	if err := unix.Mount(kind, at, kind, unix.MS_NOSUID|unix.MS_NODEV, options); err != nil {
		return fmt.Errorf("%s at %s: %w", kind, at, err)
	}
	return nil
}

// readOnly makes a mount read-only, with those below it if all is set.
func readOnly(at string, all bool) error {
	flags := uint(0)
	if all {
		flags = unix.AT_RECURSIVE
	}
	attr := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID}
	if err := unix.MountSetattr(unix.AT_FDCWD, at, flags, &attr); err != nil {
		return fmt.Errorf("%s read-only: %w", at, err)
	}
	return nil
}

// rootMaker fills a new root. After an error it does nothing more.
type rootMaker struct {
	at  string
	err error
}

func (r *rootMaker) in(path string) string { return filepath.Join(r.at, path) }

func (r *rootMaker) mkdir(path string) {
	if r.err == nil {
		r.err = os.MkdirAll(r.in(path), 0o755)
	}
}

// show makes a directory of the system visible at its own path; a link is
// copied, and what does not exist is left out.
func (r *rootMaker) show(path string, writable bool) {
	info, err := os.Lstat(path)
	switch {
	case r.err != nil || err != nil:
	case info.Mode()&fs.ModeSymlink != 0:
		to, err := os.Readlink(path)
		if err == nil {
			err = os.MkdirAll(filepath.Dir(r.in(path)), 0o755)
		}
		if err == nil {
			err = os.Symlink(to, r.in(path))
		}
		if !errors.Is(err, fs.ErrExist) {
			r.err = err
		}
	case info.IsDir():
		r.bind(path, path, true)
		if !writable && r.err == nil {
			r.err = readOnly(r.in(path), true)
		}
	}
}

// showFile makes a regular file visible at its own path, read-only. In a directory that is
// visible, it is already.
func (r *rootMaker) showFile(path string) {
	if _, err := os.Lstat(r.in(path)); r.err != nil || err == nil {
		return
	}
	if r.mkdir(filepath.Dir(path)); r.err == nil {
		r.err = os.WriteFile(r.in(path), nil, 0o444)
	}
	r.bind(path, path, false)
	if r.err == nil {
		r.err = readOnly(r.in(path), false)
	}
}

// bind mounts a directory or a file at a path of the new root.
func (r *rootMaker) bind(from, to string, all bool) {
	if r.err != nil {
		return
	}
	if _, err := os.Lstat(r.in(to)); err != nil {
		r.mkdir(to)
	}
	flags := uintptr(unix.MS_BIND)
	if all {
		flags |= unix.MS_REC
	}
	if err := unix.Mount(from, r.in(to), "", flags, ""); err != nil && r.err == nil {
		r.err = fmt.Errorf("%s: %w", from, err)
	}
}

// devices makes a /dev with the harmless devices, and with terminals and shared
// memory of its own.
func (r *rootMaker) devices() {
	r.mkdir("/dev/pts")
	r.mkdir("/dev/shm")
	for _, name := range []string{"null", "zero", "full", "random", "urandom"} {
		if r.err != nil {
			return
		}
		if r.err = os.WriteFile(r.in("/dev/"+name), nil, 0o666); r.err == nil {
			r.bind("/dev/"+name, "/dev/"+name, false)
		}
	}
	for name, to := range map[string]string{
		"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2", "ptmx": "pts/ptmx",
	} {
		if r.err == nil {
			r.err = os.Symlink(to, r.in("/dev/"+name))
		}
	}
	if r.err == nil {
		r.err = unix.Mount("devpts", r.in("/dev/pts"), "devpts", unix.MS_NOSUID|unix.MS_NOEXEC, "newinstance,ptmxmode=0666,mode=0620")
	}
	if r.err == nil {
		r.err = mount("tmpfs", r.in("/dev/shm"), "mode=1777")
	}
}

// processes mounts the process file system: that of its own namespace, or the
// machine's. Nothing of it is hidden from a command that restricts others: only who sees
// all of it may mount one for them (mount_namespaces(7)).
func (r *rootMaker) processes(own, nesting bool) {
	r.mkdir("/proc")
	switch {
	case r.err != nil:
	case own:
		if err := unix.Mount("proc", r.in("/proc"), "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
			r.err = fmt.Errorf("/proc: %w", err)
			return
		}
		if nesting {
			return
		}
		r.hide([]string{"/proc/kmsg", "/proc/kcore", "/proc/keys", "/proc/sysrq-trigger", "/proc/timer_list"})
	default:
		r.bind("/proc", "/proc", true)
	}
}

// hide covers files and directories with empty ones.
func (r *rootMaker) hide(list []string) {
	for _, path := range list {
		info, err := os.Lstat(r.in(path))
		switch {
		case r.err != nil:
			return
		case err != nil:
		case info.IsDir():
			r.err = mount("tmpfs", r.in(path), "mode=0555,size=4k")
		default:
			r.bind(r.in("/dev/null"), path, false)
		}
	}
}

// hidden returns the system's files and directories that not everybody may read,
// if this process is root and could read them all the same.
var hidden = sync.OnceValue(func() []string {
	if os.Getuid() != 0 {
		return nil
	}
	var out []string
	_ = filepath.WalkDir("/etc", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.Type()&fs.ModeSymlink != 0 {
			return nil
		}
		info, err := d.Info()
		switch {
		case err != nil || strings.ContainsRune(path, 0):
		case d.IsDir() && info.Mode().Perm()&0o005 != 0o005:
			out = append(out, path)
			return filepath.SkipDir
		case !d.IsDir() && info.Mode().Perm()&0o004 == 0:
			out = append(out, path)
		}
		return nil
	})
	return out
})
