//go:build linux || darwin

package files

import (
	"context"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// A survey is remembered as a roster: the directories that it looked into, with
// their status, and the names in them that count as files. While git's index,
// the ignore files and all these directories are unchanged, the same names
// count, and only the status of each file is taken again.

// rosterDir is a directory of a roster.
type rosterDir struct {
	path  string
	st    stamp
	names []string
	ranks []uint32 // of the files in files, sorted by path
}

type roster struct {
	index   indexState
	tracked digest.Digest // of the paths that git tracks
	dirs    []rosterDir
	rules   []found  // ignore files
	repos   []string // directories that were skipped because they are repositories of their own
	links   []string // submodules
	files   int
}

// rosterFormat has the state of git's index, what it tracks, the ignore files with their status,
// the repositories, the submodules, and the directories.
var rosterFormat = statefile.Register(statefile.Format[*roster]{Name: "survey", Version: 4, Encode: writeRoster, Decode: readRoster})

func writeRoster(w *statefile.Writer, r *roster) {
	r.index.write(w)
	w.Digest(r.tracked)
	w.Uint(uint64(len(r.rules)))
	for _, f := range r.rules {
		w.Text(f.path)
		writeStamp(w, f.st)
	}
	writeTexts(w, r.repos)
	writeTexts(w, r.links)
	w.Uint(uint64(r.files))
	w.Uint(uint64(len(r.dirs)))
	for _, d := range r.dirs {
		w.Text(d.path)
		writeStamp(w, d.st)
		w.Uint(uint64(len(d.names)))
		for i, n := range d.names {
			w.Text(n)
			w.Uint(uint64(d.ranks[i]))
		}
	}
}

func readRoster(r *statefile.Reader) *roster {
	out := &roster{index: readIndexState(r), tracked: r.Digest()}
	for range r.Count(stampSize) {
		out.rules = append(out.rules, found{r.Text(), readStamp(r)})
	}
	out.repos = readTexts(r)
	out.links = readTexts(r)
	out.files = r.Count(2)
	dirs := r.Count(stampSize)
	out.dirs = make([]rosterDir, 0, dirs)
	names := rosterNames{names: make([]string, 0, out.files), ranks: make([]uint32, 0, out.files), taken: make([]bool, out.files)}
	for range dirs {
		d := rosterDir{path: r.Text(), st: readStamp(r)}
		d.names, d.ranks = names.read(r)
		out.dirs = append(out.dirs, d)
	}
	if len(names.names) != out.files {
		r.Fail()
	}
	return out
}

// rosterNames reads the names of all directories into two slices.
type rosterNames struct {
	names []string
	ranks []uint32
	taken []bool // each rank occurs once
}

func (n *rosterNames) read(r *statefile.Reader) ([]string, []uint32) {
	from := len(n.names)
	for range r.Count(2) {
		name, rank := r.Text(), r.Uint()
		if r.Failed() || rank >= uint64(len(n.taken)) || n.taken[rank] {
			r.Fail()
			return nil, nil
		}
		n.taken[rank] = true
		n.names, n.ranks = append(n.names, name), append(n.ranks, uint32(rank))
	}
	return n.names[from:len(n.names):len(n.names)], n.ranks[from:len(n.ranks):len(n.ranks)]
}

// fromRoster returns the files of an earlier survey's roster, with their
// current status. It fails if anything changed that decides which files count.
func (c *Checkout) fromRoster(ctx context.Context) ([]found, bool) {
	began := time.Now()
	r, ok := rosterFormat.Load(c.stateFile("survey"))
	index, known := c.indexState()
	if !ok || !known {
		return nil, false
	}
	for _, rule := range r.rules {
		full := rule.path
		if !filepath.IsAbs(full) {
			full = filepath.Join(c.Root, filepath.FromSlash(full))
		}
		info, err := os.Lstat(full)
		if err != nil {
			return nil, false
		}
		if st, ok := stampOf(info); !ok || st != rule.st {
			return nil, false
		}
	}
	for _, d := range r.repos {
		if _, err := os.Lstat(filepath.Join(c.Root, filepath.FromSlash(d), ".git")); err != nil {
			return nil, false
		}
	}
	outer := slices.DeleteFunc(slices.Clone(r.rules), func(f found) bool { return !filepath.IsAbs(f.path) })
	if len(c.outerRules()) != len(outer) {
		return nil, false
	}
	same := func() bool { return true }
	if index != r.index {
		same = sync.OnceValue(func() bool { return c.tracksTheSame(ctx, r) })
		go same()
	}
	list, ok := r.take(ctx, c.Root)
	if !same() || !ok {
		return nil, false
	}
	if index != r.index && index.settledBefore(began) {
		r.index = index
		_ = rosterFormat.Save(c.stateFile("survey"), r)
	}
	c.mu.Lock()
	c.ignored, c.links, c.repos = loadIgnores(c.stateFile("ignored")).answers, r.links, r.repos
	c.mu.Unlock()
	return list, true
}

// tracksTheSame tells whether the files of a roster are still those that count, although git's index
// is another one: as after a commit. Git then tracks what it tracked, and perhaps files that counted
// already. A roster's tracked paths become the present ones.
func (c *Checkout) tracksTheSame(ctx context.Context, r *roster) bool {
	last, _ := trackedFormat.Load(c.stateFile("tracked"))
	now, err := c.trackedFiles(ctx)
	if err != nil {
		return false
	}
	sum := pathsSum(now)
	if sum != r.tracked && (pathsSum(last.paths) != r.tracked || !r.covers(last.paths, now)) {
		return false
	}
	r.tracked = sum
	return true
}

func pathsSum(paths []string) digest.Digest {
	h := digest.New()
	for _, p := range paths {
		_, _ = io.WriteString(h, p)
		_, _ = h.Write([]byte{0})
	}
	return digest.From(h)
}

// covers tells whether the paths that are tracked now are those that were, and files of the roster.
func (r *roster) covers(before, now []string) bool {
	for _, p := range now {
		switch {
		case len(before) > 0 && before[0] == p:
			before = before[1:]
		case len(before) > 0 && before[0] < p, !r.has(p):
			return false
		}
	}
	return len(before) == 0
}

func (r *roster) has(p string) bool {
	i, ok := slices.BinarySearchFunc(r.dirs, path.Dir(p), func(d rosterDir, dir string) int { return strings.Compare(d.path, dir) })
	return ok && slices.Contains(r.dirs[i].names, path.Base(p))
}

// take takes the status of all directories and files.
func (r *roster) take(ctx context.Context, root string) ([]found, bool) {
	at, err := unix.Open(root, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, false
	}
	defer unix.Close(at)
	list := make([]found, r.files)
	var failed atomic.Bool
	inChunks(ctx, len(r.dirs), func(i int) {
		if !failed.Load() && !r.dirs[i].take(at, list) {
			failed.Store(true)
		}
	})
	return list, !failed.Load() && ctx.Err() == nil
}

func (d *rosterDir) take(root int, list []found) bool {
	fd, err := openDirectory(root, d.path)
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if unix.Fstat(fd, &st) != nil || asStamp(&st) != d.st {
		return false
	}
	paths, skip := d.paths()
	for i, name := range d.names {
		end := skip + len(name)
		if statTerminated(fd, paths[skip:end+1], &st) != nil || st.Mode&unix.S_IFMT == unix.S_IFDIR {
			return false
		}
		list[d.ranks[i]] = found{paths[:end], asStamp(&st)}
		paths = paths[end+1:]
	}
	return true
}

// paths returns the paths of the directory's files in one text, each with a zero byte behind it as
// the system wants it, and how long what is before their names is: two allocations per file would
// be a tenth of a run with nothing to do.
func (d *rosterDir) paths() (paths string, skip int) {
	prefix := d.path + "/"
	if d.path == "." {
		prefix = ""
	}
	size := 0
	for _, name := range d.names {
		size += len(prefix) + len(name) + 1
	}
	var b strings.Builder
	b.Grow(size)
	for _, name := range d.names {
		b.WriteString(prefix)
		b.WriteString(name)
		b.WriteByte(0)
	}
	return b.String(), len(prefix)
}

// keepRoster remembers a survey for the next run, if a later change to anything
// it depends on would show.
func (s *surveyor) keepRoster(index indexState, taken int64) {
	safe := func(st stamp, taken int64) bool { return (remembered{Stamp: st, Taken: taken}).safe() }
	r := &roster{index: index, tracked: s.sum, rules: s.rules, repos: s.repos, links: s.links, files: len(s.files)}
	for _, f := range s.rules {
		if !safe(f.st, taken) {
			return
		}
	}
	at := make(map[string]int, len(s.names.seen))
	for _, dir := range sortedKeys(s.names.seen) {
		l := s.names.seen[dir]
		if !safe(l.st, l.taken) {
			return
		}
		at[dir] = len(r.dirs)
		r.dirs = append(r.dirs, rosterDir{path: dir, st: l.st})
	}
	for rank, f := range s.files {
		i, ok := at[path.Dir(f.path)]
		if !ok {
			return
		}
		r.dirs[i].names = append(r.dirs[i].names, path.Base(f.path))
		r.dirs[i].ranks = append(r.dirs[i].ranks, uint32(rank))
	}
	_ = rosterFormat.Save(s.c.stateFile("survey"), r)
}

func sortedKeys(m map[string]listed) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
