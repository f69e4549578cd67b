package outputs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/lock"
)

// Files that git tracks are set aside while the task runs that may write them. Where one is says
// where it belongs, so that whoever comes next can put it back, whatever happened meanwhile:
//
//	.grayloft/aside/TASK/kept/PATH     as git's index or the last result has it
//	.grayloft/aside/TASK/edited/PATH   somebody's work
//
// TASK is the name of the task's lock, and PATH begins at the root.
const (
	asideKept   = "kept"
	asideEdited = "edited"
)

// aside is where a file is while it is set aside, both from the root.
func (o *Set) aside(name string, isEdited bool) string {
	as := asideKept
	if isEdited {
		as = asideEdited
	}
	return path.Join(checkout.Dir, "aside", checkout.LockName(o.Task.Addr()), as, name)
}

// edited returns which tracked files among outputs are somebody's work: they differ from git's index
// and from the last listing.
func (o *Set) edited(
	ctx context.Context, found listing.List, tracked map[string]bool, last map[string]listing.Row,
) (map[string]bool, error) {
	var ask []string
	for _, f := range found {
		if r, ok := last[f.Path]; tracked[f.Path] && !(ok && o.unchanged(r, f.Kind)) {
			ask = append(ask, o.fromRoot(f.Path))
		}
	}
	if len(ask) == 0 {
		return nil, nil
	}
	modified, err := o.Files.Git.Modified(ctx, ask...)
	if err != nil {
		return nil, fmt.Errorf("asking git which outputs of %s were edited: %w", o.Task.Addr(), err)
	}
	out := map[string]bool{}
	for _, name := range modified {
		out[strings.TrimPrefix(name, o.fromRoot("")+"/")] = true
		if o.Task.Project.Dir == "." {
			out[name] = true
		}
	}
	return out, nil
}

// PutBack returns files that git tracks to their places, unless the task wrote
// them again. What somebody had edited is then displaced, and named.
func (o *Set) PutBack() error {
	r := returning{root: o.State.Root, lock: checkout.LockName(o.Task.Addr()), run: o.Run}
	err := r.all()
	if len(r.displaced) > 0 {
		o.Report(fmt.Sprintf("%s: wrote %s, which had been edited: the edited text is in %s/displaced/%s",
			o.Task.Addr(), some(r.displaced), checkout.Dir, o.Run))
	}
	return err
}

// PutBackAll returns the files that runs which were killed had set aside. What such a run wrote in
// their places is no result of anything, and is replaced.
func PutBackAll(root string) error {
	list, err := os.ReadDir(filepath.Join(root, checkout.Dir, "aside"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range list {
		unlock, free, lerr := lock.Try(filepath.Join(root, checkout.Dir, "locks", e.Name()))
		if lerr != nil || !free {
			continue // the task runs, and will do it itself
		}
		r := returning{root: root, lock: e.Name(), run: "put-back", replaces: true}
		err = errors.Join(err, r.all())
		unlock()
	}
	return err
}

// returning returns what one task set aside.
type returning struct {
	root, lock string
	run        string // for the directory of displaced files
	replaces   bool   // what is in the place of a file goes away
	displaced  []string
}

func (r *returning) all() error {
	aside := path.Join(checkout.Dir, "aside", r.lock)
	if _, err := os.Lstat(filepath.Join(r.root, filepath.FromSlash(aside))); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	top, err := os.OpenRoot(r.root)
	if err != nil {
		return err
	}
	defer top.Close()
	for _, as := range []string{asideKept, asideEdited} {
		from := path.Join(aside, as)
		if _, err := top.Lstat(from); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		err := fs.WalkDir(top.FS(), from, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			return r.one(top, name, strings.TrimPrefix(name, from+"/"), as == asideEdited)
		})
		if err != nil {
			return fmt.Errorf("putting back files that git tracks: %w (they are in %s)", err, aside)
		}
	}
	return top.RemoveAll(aside)
}

// one returns one file.
func (r *returning) one(top *os.Root, from, to string, isEdited bool) error {
	there, err := top.Lstat(to)
	switch {
	case err == nil && r.replaces && !there.IsDir():
		if err := top.Remove(to); err != nil {
			return err
		}
	case err == nil && !isEdited && !r.replaces: // written again
		return top.Remove(from)
	case err == nil:
		r.displaced = append(r.displaced, to)
		return move(top, from, path.Join(checkout.Dir, "displaced", r.run, to))
	}
	if err := mkdirs(top, path.Dir(to)); err != nil {
		return err
	}
	return rename(top, from, to)
}
