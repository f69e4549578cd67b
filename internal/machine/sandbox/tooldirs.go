package sandbox

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"grayloft.example/grayloft/internal/core/graph"
)

// toolDirs calls outer for each directory of a toolchain outside the repository that the
// probes of a task name, and inner for each one in it, from the root. One of the project is also one
// of the projects that it needs: what their files use is installed there.
func toolDirs(t *graph.Task, home string, outer, inner func(dir string)) {
	for _, p := range t.Decl.Probes.Items {
		for _, d := range t.Graph().Repo.Probes[p.Text].Dirs {
			rel, isHome := strings.CutPrefix(d, "home:")
			top, isRoot := strings.CutPrefix(d, "repo:")
			switch {
			case isHome:
				outer(filepath.Join(home, filepath.FromSlash(rel)))
			case isRoot:
				inner(top)
			case strings.HasPrefix(d, "/"):
				outer(d)
			default:
				inner(path.Join(t.Project.Dir, d))
				for _, p := range t.Project.NeedsAll {
					inner(path.Join(p.Dir, d))
				}
			}
		}
	}
}

// mirrorTools puts the directories of toolchains that are in the repository into the
// tree: as directories of their own, whose entries lead to those of the repository.
// Links are copied, for they may lead to files of the tree, such as a package of the same
// workspace.
func (st *Staging) mirrorTools() error {
	var failed error
	toolDirs(st.task, "", func(string) {}, func(dir string) {
		from := filepath.Join(st.Root, filepath.FromSlash(dir))
		if info, err := os.Lstat(from); err != nil || !info.IsDir() || failed != nil {
			return // a package without a directory of its own, or a link, which could lead anywhere
		}
		st.stage.Readable = append(st.stage.Readable, resolveLinks(from))
		failed = st.mirror(resolveLinks(from), filepath.Join(st.Tree(), filepath.FromSlash(dir)), true)
	})
	return failed
}

// mirror copies the links of a directory, and makes links to its other entries. Of the
// groups in it (such as @scope and .bin), it does the same one level below.
func (st *Staging) mirror(from, to string, hasGroups bool) error {
	list, err := os.ReadDir(from)
	if err == nil {
		err = os.MkdirAll(to, 0o755)
	}
	for _, e := range list {
		if err != nil {
			return err
		}
		source, target := filepath.Join(from, e.Name()), filepath.Join(to, e.Name())
		isGroup := hasGroups && e.IsDir() && (strings.HasPrefix(e.Name(), "@") || strings.HasPrefix(e.Name(), "."))
		switch {
		case e.Name() == ".cache": // written by tools: each run has its own
		case e.Type()&fs.ModeSymlink != 0:
			var at string
			if at, err = os.Readlink(source); err == nil {
				err = os.Symlink(at, target)
			}
		case isGroup:
			err = st.mirror(source, target, false)
		default:
			err = os.Symlink(source, target)
		}
		if errors.Is(err, fs.ErrExist) { // the task reads it
			err = nil
		}
	}
	return err
}
