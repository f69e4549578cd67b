package outputs

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"

	"grayloft.example/grayloft/internal/machine/beneath"
)

// put moves what is staged to its place.
func (r *Restoration) put() error {
	if len(r.list) == 0 {
		return nil
	}
	top, err := os.OpenRoot(r.o.State.Root)
	if err != nil {
		return err
	}
	defer top.Close()
	if err := mkdirs(top, r.o.Task.Project.Dir); err != nil {
		return err
	}
	base, err := beneath.OpenRoot(r.o.State.Root, r.o.Task.Project.Dir)
	if err != nil {
		return err
	}
	defer base.Close()
	return r.merge(base, ".")
}

// merge moves what is staged in a directory: a directory as a whole, unless there is one in
// its place already.
func (r *Restoration) merge(base *os.Root, dir string) error {
	from, err := os.Open(r.aside(dir))
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := base.Open(dir)
	if err != nil {
		return fmt.Errorf("restoring %s: %w", r.o.fromRoot(dir), err)
	}
	defer to.Close()
	list, err := from.ReadDir(-1)
	if err != nil {
		return err
	}
	for _, e := range list {
		if err := r.place(base, from, to, path.Join(dir, e.Name()), e); err != nil {
			return err
		}
	}
	return nil
}

// place moves what is staged from one open directory to another.
func (r *Restoration) place(base *os.Root, from, to *os.File, rel string, e fs.DirEntry) error {
	if there, err := hasDirectory(base, rel, e); err != nil {
		return err
	} else if there {
		return r.merge(base, rel)
	}
	err := moveInto(from, e.Name(), to, e.Name())
	if isAcross(err) && e.IsDir() {
		if err = base.Mkdir(rel, 0o755); err == nil {
			return r.merge(base, rel)
		}
	} else if isAcross(err) {
		err = r.carry(base, rel)
	}
	if err != nil {
		return fmt.Errorf("restoring %s: %w", r.o.fromRoot(rel), err)
	}
	return nil
}

// carry moves a staged file or link to another file system.
func (r *Restoration) carry(base *os.Root, rel string) error {
	staged, err := os.OpenRoot(r.base)
	if err != nil {
		return err
	}
	defer staged.Close()
	return carry(staged, rel, base, rel)
}

// hasDirectory tells whether a directory is already there. Something else must not be in its
// place.
func hasDirectory(base *os.Root, rel string, e fs.DirEntry) (bool, error) {
	if !e.IsDir() {
		return false, nil
	}
	info, err := base.Lstat(rel)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err == nil && !info.IsDir() {
		err = fmt.Errorf("%w: %s is in the way and is not a directory", ErrRefused, rel)
	}
	return err == nil, err
}
