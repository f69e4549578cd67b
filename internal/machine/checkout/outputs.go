package checkout

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/store"
)

// Outputs reads, writes and deletes the outputs of one task.
type Outputs struct {
	State  *State
	Files  *files.Checkout
	Store  *store.Store
	Task   *graph.Task
	Run    string       // id of the run, for the directory of displaced files
	Report func(string) // receives a sentence for the person
	Tree   string       // where the task ran, if not in the checkout
}

// Now returns a listing of the current files, so that [Outputs.Clear] treats
// them as the task's own.
func (o *Outputs) Now() listing.List {
	found, _ := o.Found()
	var out listing.List
	for _, f := range found {
		if row, err := o.Files.Memory.Row(o.fromRoot(f.Path)); err == nil {
			row.Path = f.Path
			out = append(out, row)
		}
	}
	return out
}

// open opens the project's directory. Everything below it is reached through
// this descriptor, so a task that replaces a directory by a link cannot make the
// client read or write elsewhere. Nil means that there is no such directory.
func (o *Outputs) open() (*os.Root, error) {
	base, err := files.OpenBeneath(o.root(), o.Task.Project.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return base, err
}

func (o *Outputs) root() string {
	if o.Tree != "" {
		return o.Tree
	}
	return o.State.Root
}

func (o *Outputs) fromRoot(rel string) string { return path.Join(o.Task.Project.Dir, rel) }

// errSpecial is for files that cannot be kept: devices, pipes, sockets.
var errSpecial = errors.New("is a device, a pipe or a socket, and cannot be kept")

// Found returns what matches the task's writes on the disk, relative to its
// project: files, links and empty directories, without size and digest.
func (o *Outputs) Found() (listing.List, error) {
	if len(o.Task.Writes) == 0 {
		return nil, nil
	}
	base, err := o.open()
	if base == nil || err != nil {
		return nil, err
	}
	defer base.Close()
	return o.found(base)
}

func (o *Outputs) found(base *os.Root) (listing.List, error) {
	rows := map[string]listing.Kind{}
	if err := o.search(base, o.Task.Writes, rows); err != nil {
		return nil, err
	}
	var out listing.List
	for p, k := range rows {
		out = append(out, listing.Row{Path: p, Kind: k})
	}
	out.Sort()
	return out, nil
}

// search adds what matches any of the patterns to rows.
func (o *Outputs) search(base *os.Root, patterns []glob.Pattern, rows map[string]listing.Kind) error {
	w := walk{o, base, patterns, rows}
	for _, p := range patterns {
		if start := cmp.Or(p.LiteralStart(), "."); reachable(base, start) {
			if err := w.from(start); err != nil {
				return err
			}
		}
	}
	return nil
}

// reachable tells whether the path to a file in the project has only
// directories: patterns never go through links.
func reachable(base *os.Root, rel string) bool {
	for d := path.Dir(rel); d != "."; d = path.Dir(d) {
		info, err := base.Lstat(d)
		if err != nil || !info.IsDir() {
			return false
		}
	}
	return true
}

// walk is a search for files that match patterns.
type walk struct {
	*Outputs
	base     *os.Root
	patterns []glob.Pattern
	rows     map[string]listing.Kind
}

func (w walk) matches(rel string) bool { return matchesAny(w.patterns, rel) }

func (w walk) from(start string) error {
	if info, err := w.base.Lstat(start); err != nil || info.Mode()&fs.ModeSymlink != 0 {
		if err == nil && w.matches(start) {
			w.rows[start] = listing.Link
		}
		return nil
	}
	return fs.WalkDir(w.base.FS(), start, func(rel string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if d.IsDir() {
			return w.dir(rel)
		}
		if !w.matches(rel) {
			return nil
		}
		switch {
		case d.Type()&fs.ModeSymlink != 0:
			w.rows[rel] = listing.Link
		case d.Type().IsRegular():
			w.rows[rel] = listing.File
		default:
			return fmt.Errorf("%s %w", w.fromRoot(rel), errSpecial)
		}
		return nil
	})
}

func (w walk) dir(rel string) error {
	if rel != "." {
		name := path.Base(rel)
		if name == ".git" || name == Dir || w.otherProject(rel) {
			return filepath.SkipDir
		}
		if w.matches(rel) {
			if empty, err := emptyDir(w.base, rel); err == nil && empty {
				w.rows[rel] = listing.EmptyDir
			}
		}
	}
	return nil
}

func (o *Outputs) otherProject(rel string) bool {
	return o.Files.Graph.Containing(o.fromRoot(rel)) != o.Task.Project
}

func (o *Outputs) matches(rel string) bool { return matchesAny(o.Task.Writes, rel) }

func emptyDir(base *os.Root, rel string) (bool, error) {
	f, err := base.Open(rel)
	if err != nil {
		return false, err
	}
	defer f.Close()
	_, err = f.Readdirnames(1)
	return errors.Is(err, io.EOF), nil
}

// Right tells whether the disk contains exactly what a listing says. Files that
// git tracks and that are not in the listing are ignored.
func (o *Outputs) Right(ctx context.Context, want listing.List) (bool, error) {
	found, err := o.Found()
	if errors.Is(err, errSpecial) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if len(found) < len(want) {
		return false, nil
	}
	wanted := make(map[string]listing.Row, len(want))
	for _, r := range want {
		wanted[r.Path] = r
	}
	var extra []string
	for _, f := range found {
		r, ok := wanted[f.Path]
		if !ok {
			extra = append(extra, f.Path)
			continue
		}
		if same, err := o.same(r, f.Kind); err != nil || !same {
			return false, err
		}
		delete(wanted, f.Path)
	}
	if len(wanted) > 0 {
		return false, nil
	}
	if len(extra) == 0 {
		return true, nil
	}
	tracked, err := o.tracked(ctx)
	if err != nil {
		return false, err
	}
	return !slices.ContainsFunc(extra, func(p string) bool { return !tracked[p] }), nil
}

func (o *Outputs) same(r listing.Row, kind listing.Kind) (bool, error) {
	if r.Kind == listing.EmptyDir || kind == listing.EmptyDir {
		return r.Kind == kind, nil
	}
	have, err := o.Files.Memory.Row(o.fromRoot(r.Path))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	have.Path = r.Path
	return have == r, err
}

func (o *Outputs) tracked(ctx context.Context) (map[string]bool, error) {
	var below []string
	for _, w := range o.Task.Writes {
		start := o.fromRoot(w.LiteralStart())
		if start == "." {
			below = nil
			break
		}
		below = append(below, start)
	}
	list, err := o.Files.Git.Tracked(ctx, below...)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, p := range list {
		if rel, ok := strings.CutPrefix(p, o.fromRoot("")+"/"); ok || o.Task.Project.Dir == "." {
			out[rel] = true
		}
	}
	return out, nil
}
