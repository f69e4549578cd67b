package files

import (
	"context"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"time"
)

// Directories are directories as they were at one moment, by path from the root.
type Directories map[string]directoryState

// directoryState is the status of a directory and what is in it. Files that nothing reads (ignored ones)
// are there with their status, unless tasks may write into the directory.
type directoryState struct {
	st       stamp
	names    []string         // sorted
	hidden   map[string]stamp // files that nobody reads
	mayWrite bool             // tasks may create and delete entries
	isRead   bool             // it contains files that tasks may read
}

// directory describes a directory with its entries.
func (w *comparison) directory(dir, full string, at stamp, entries []fs.DirEntry) directoryState {
	d := directoryState{
		st: at, mayWrite: w.c.Graph.MayWriteIn(dir), isRead: dir == "." || w.earlier.HasReadBelow(dir), hidden: map[string]stamp{},
	}
	for _, e := range entries {
		d.names = append(d.names, e.Name())
		p := e.Name()
		if dir != "." {
			p = dir + "/" + p
		}
		if !d.mayWrite && !e.IsDir() && !w.earlier.Has(p) {
			d.hidden[e.Name()], _ = statusOf(filepath.Join(full, e.Name()))
		}
	}
	slices.Sort(d.names)
	return d
}

// changed says how a directory changed in a way in which files that are read can have been seen in
// another state; "" if it did not. Files that came, went or changed are noticed by themselves: this is
// about what was there for a while.
func (d directoryState) changed(after directoryState) string {
	switch {
	case d.st == after.st:
		return ""
	case d.mayWrite && !d.isRead:
		return "" // outputs
	case d.st.Ino != after.st.Ino || d.st.Dev != after.st.Dev:
		return "was replaced"
	case after.st.Ctime != d.st.Ctime && after.st.Ctime != after.st.Mtime:
		return "was moved, or got another mode"
	case d.mayWrite || !slices.Equal(d.names, after.names) || !maps.Equal(d.hidden, after.hidden):
		return "" // which explains it
	}
	return "contained something for a while"
}

// Watched is the state of everything that a task reads at one moment.
type Watched struct {
	paths []string // from the root, sorted
	at    []stamp  // of each path; zero: it does not exist
	dirs  Directories
	taken int64 // nanoseconds since 1970, before the first status was taken
}

// Watch takes the status of files.
func (c *Checkout) Watch(ctx context.Context, paths []string, dirs Directories) Watched {
	w := Watched{paths: paths, at: make([]stamp, len(paths)), dirs: dirs, taken: c.now().UnixNano()}
	inChunks(ctx, len(paths), func(i int) { w.at[i], _ = statusOf(filepath.Join(c.Root, filepath.FromSlash(paths[i]))) })
	return w
}

// Unsettled returns how long it takes until a change would show in the status of every file: a file
// that was changed a moment ago can change again within the same tick of the clock. It is at most the
// time between two ticks of a file system with exact times.
func (w Watched) Unsettled() time.Duration {
	const tick = 20 * time.Millisecond
	last := int64(0)
	for _, st := range w.at {
		if t := max(st.Mtime, st.Ctime); t <= w.taken {
			last = max(last, t)
		}
	}
	return max(0, time.Duration(last-w.taken)+tick+time.Millisecond)
}

// Changed names what changed between two moments, or was in another state between them; nil if nothing
// was.
func (w Watched) Changed(after Watched) (out []string) {
	now := make(map[string]stamp, len(after.paths))
	for i, p := range after.paths {
		now[p] = after.at[i]
	}
	for i, p := range w.paths {
		switch st := now[p]; {
		case w.at[i] == st:
		case st == (stamp{}):
			out = append(out, p+" is gone")
		default:
			out = append(out, p+" changed")
		}
	}
	for _, dir := range slices.Sorted(maps.Keys(w.dirs)) {
		now, ok := after.dirs[dir]
		if !ok {
			continue // its files are gone, too
		}
		if how := w.dirs[dir].changed(now); how != "" {
			out = append(out, dir+" "+how)
		}
	}
	return out
}
