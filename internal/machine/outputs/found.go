package outputs

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/beneath"
	"grayloft.example/grayloft/internal/machine/checkout"
)

// errSpecial is for what cannot be kept: devices, pipes, sockets, and directories with names that no
// listing has.
var errSpecial = errors.New("cannot be kept")

// Found returns what matches the task's writes on the disk, relative to its
// project: files, links and empty directories, without size and digest. Others
// are an error, and so is a link where a directory would contain outputs.
func (o *Set) Found() (listing.List, error) {
	found, special, err := o.search(o.Task.Writes)
	if err == nil && len(special) > 0 {
		what := "a device, a pipe or a socket"
		if isReserved(path.Base(special[0])) {
			what = "a directory with a name that is reserved"
		}
		err = fmt.Errorf("%s is %s, and %w", o.fromRoot(special[0]), what, errSpecial)
	}
	return found, err
}

// isReserved tells whether no listing has a directory of that name.
func isReserved(name string) bool { return name == ".git" || name == checkout.Dir }

// Any tells whether anything matches the task's writes on the disk, or may do so behind a link.
func (o *Set) Any() (bool, error) {
	found, special, err := o.search(o.Task.Writes)
	if errors.Is(err, beneath.ErrNoDirectory) {
		return true, nil
	}
	return len(found)+len(special) > 0, err
}

// search returns what matches any of the patterns, and the paths of what matches and cannot
// be kept. Patterns never go through links: where one would, the error wraps
// [beneath.ErrNoDirectory], and what was found elsewhere is returned with it.
func (o *Set) search(patterns []glob.Pattern) (found listing.List, special []string, err error) {
	w := &walk{Set: o, patterns: patterns}
	for _, p := range patterns {
		switch e := w.from(p); {
		case errors.Is(e, beneath.ErrNoDirectory):
			err = e
		case e != nil && !errors.Is(e, fs.ErrNotExist):
			return nil, nil, e
		}
	}
	if err == nil && w.linked != "" {
		err = fmt.Errorf("%s %w", o.fromRoot(w.linked), beneath.ErrNoDirectory)
	}
	slices.SortFunc(w.rows, func(a, b match) int { return strings.Compare(a.path, b.path) })
	w.rows = slices.CompactFunc(w.rows, func(a, b match) bool { return a.path == b.path }) // patterns overlap
	if len(w.rows) > 0 {
		found = make(listing.List, len(w.rows))
	}
	for i, m := range w.rows {
		found[i] = listing.Row{Path: m.path, Kind: m.kind}
	}
	slices.Sort(w.special)
	return found, slices.Compact(w.special), err
}

// match is what was found under a path.
type match struct {
	path string
	kind listing.Kind
}

// walk is a search for files that match patterns. Directories are looked at in parallel as long as
// processors are free.
type walk struct {
	*Set
	patterns []glob.Pattern
	rows     []match
	special  []string
	linked   string // a link behind which a pattern could match; "" if there is none
}

func (w *walk) matches(rel string) bool { return matchesAny(w.patterns, rel) }

// holds tells whether a directory is an output itself: it matches, or a pattern starts at it.
func (w *walk) holds(rel string) bool { return w.matches(rel) || startsAt(w.patterns, rel) }

// startsAt tells whether one of some patterns with wildcards starts at a directory.
func startsAt(list []glob.Pattern, rel string) bool {
	return slices.ContainsFunc(list, func(p glob.Pattern) bool { return !p.Literal() && p.LiteralStart() == rel })
}

// leadInto tells whether a pattern could match something in a directory that is not there, because a
// link is in its place.
func (w *walk) leadInto(rel string) bool {
	below, err := glob.Parse("**")
	return err == nil && slices.ContainsFunc(w.patterns, below.Under(rel).Meets)
}

// from searches where a pattern starts.
func (w *walk) from(p glob.Pattern) error {
	start := cmp.Or(p.LiteralStart(), ".")
	in, err := beneath.OpenFolder(w.root(), path.Join(w.Task.Project.Dir, path.Dir(start)))
	if err != nil {
		return err
	}
	defer in.Close()
	kind, err := in.Type(path.Base(start))
	if err != nil {
		return err
	}
	if kind&fs.ModeSymlink != 0 && !p.Literal() {
		w.linked = start
	}
	return w.name(in, start, kind)
}

// name looks at a name in an open directory.
func (w *walk) name(in *beneath.Folder, rel string, kind fs.FileMode) error {
	switch {
	case kind.IsDir():
		return w.dir(in, rel)
	case !w.matches(rel):
		if kind&fs.ModeSymlink != 0 && w.leadInto(rel) {
			w.linked = rel
		}
	case kind&fs.ModeSymlink != 0:
		w.rows = append(w.rows, match{rel, listing.Link})
	case kind.IsRegular():
		w.rows = append(w.rows, match{rel, listing.File})
	default:
		w.special = append(w.special, rel)
	}
	return nil
}

// dir looks at everything in a directory.
func (w *walk) dir(in *beneath.Folder, rel string) error {
	name := path.Base(rel)
	if rel != "." && isReserved(name) {
		if w.matches(rel) && w.fromRoot(rel) != name { // not that of the checkout itself
			w.special = append(w.special, rel)
		}
		return nil
	}
	if rel != "." && w.otherProject(rel) {
		return nil
	}
	at, err := in.Open(name)
	if errors.Is(err, fs.ErrNotExist) { // since it was seen
		return nil
	}
	if err != nil {
		return err
	}
	defer at.Close()
	entries, err := at.Entries()
	if err != nil {
		return err
	}
	if len(entries) == 0 && rel != "." && w.holds(rel) && !at.IsMountIn(in) { // a mount is no output
		w.rows = append(w.rows, match{rel, listing.EmptyDir})
	}
	below := ""
	if rel != "." {
		below = rel + "/"
	}
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return w.names(at, below, entries)
}

// walking has a place for each walk that goes on beside another one.
var walking = make(chan struct{}, max(1, runtime.GOMAXPROCS(0)-1))

// names looks at what is in an open directory: at directories in parallel, if processors are free.
func (w *walk) names(in *beneath.Folder, below string, entries []fs.DirEntry) (err error) {
	if !slices.ContainsFunc(entries, fs.DirEntry.IsDir) {
		return w.inTurn(in, below, entries)
	}
	var beside errgroup.Group
	var parts []*walk
	for i := 0; i < len(entries) && err == nil; i++ {
		one := entries[i : i+1]
		if !entries[i].IsDir() || !tryTo(walking) {
			err = w.inTurn(in, below, one)
			continue
		}
		part := &walk{Set: w.Set, patterns: w.patterns}
		parts = append(parts, part)
		beside.Go(func() error {
			defer func() { <-walking }()
			return part.inTurn(in, below, one)
		})
	}
	if other := beside.Wait(); err == nil {
		err = other
	}
	for _, part := range parts {
		w.rows, w.special = append(w.rows, part.rows...), append(w.special, part.special...)
		w.linked = cmp.Or(w.linked, part.linked)
	}
	return err
}

func tryTo(places chan struct{}) bool {
	select {
	case places <- struct{}{}:
		return true
	default:
		return false
	}
}

func (w *walk) inTurn(in *beneath.Folder, below string, entries []fs.DirEntry) error {
	for _, e := range entries {
		if err := w.name(in, below+e.Name(), e.Type()); err != nil {
			return err
		}
	}
	return nil
}

func (o *Set) otherProject(rel string) bool {
	return o.Files.Graph.Containing(o.fromRoot(rel)) != o.Task.Project
}

func (o *Set) matches(rel string) bool { return matchesAny(o.Task.Writes, rel) }

func matchesAny(list []glob.Pattern, rel string) bool {
	for _, p := range list {
		if p.Match(rel) {
			return true
		}
	}
	return false
}
