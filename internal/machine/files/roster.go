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
	names []string // sorted
	ranks []uint32 // of the files in files, sorted by path
}

type roster struct {
	index   indexState
	tracked digest.Digest // of the paths that git tracks
	ignored generation    // of the answers about ignored paths that this survey used
	dirs    []rosterDir
	rules   []found  // ignore files
	repos   []string // directories that were skipped because they are repositories of their own
	links   []string // submodules
	files   int
}

// rosterFormat has the state of git's index, what it tracks, the generation of the answers about
// ignored paths, the ignore files with their status,
// the repositories, the submodules, and the directories.
var rosterFormat = statefile.Register(statefile.Format[*roster]{Name: "survey", Version: 5, Encode: writeRoster, Decode: readRoster})

func writeRoster(w *statefile.Writer, r *roster) {
	r.index.write(w)
	w.Digest(r.tracked)
	r.ignored.write(w)
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
	out := &roster{index: readIndexState(r), tracked: r.Digest(), ignored: readGeneration(r)}
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
	began := c.now()
	r, ok := rosterFormat.Load(c.stateFile("survey"))
	index, known := c.indexState()
	if !ok || !known {
		return nil, false
	}
	ignored := loadIgnores(c.stateFile("ignored"))
	if !ignored.state.covers(r.ignored) {
		return nil, false // which paths are ignored is lost: an absent answer is not a no
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
	var names func() trackedNames
	if index != r.index {
		names = sync.OnceValue(func() trackedNames { return c.trackedNames(ctx, r.links) })
		go names()
	}
	list, changed, ok := r.take(ctx, c.Root)
	if !ok {
		return nil, false
	}
	if len(changed) > 0 {
		a := &amendment{c: c, r: r, ignored: ignored}
		if list, ok = a.amend(ctx, list, changed); !ok {
			return nil, false
		}
	}
	if names != nil && !r.tracksTheSame(names()) {
		return nil, false
	}
	if (index != r.index || len(changed) > 0) && index.settledBefore(began) && r.settled(began.UnixNano()) {
		r.index, r.ignored = index, ignored.state
		_ = rosterFormat.Save(c.stateFile("survey"), r)
	}
	c.mu.Lock()
	c.ignored, c.links, c.repos = ignored.answers, r.links, r.repos
	c.mu.Unlock()
	return list, true
}

// settled tells whether a later change to a directory would show.
func (r *roster) settled(taken int64) bool {
	return !slices.ContainsFunc(r.dirs, func(d rosterDir) bool { return !(remembered{Stamp: d.st, Taken: taken}).safe() })
}

// trackedNames are the paths that git tracked and tracks, and which of the submodules still are.
type trackedNames struct {
	before, now, links []string
	err                error
}

func (c *Checkout) trackedNames(ctx context.Context, links []string) (names trackedNames) {
	last, _ := trackedFormat.Load(c.stateFile("tracked"))
	names.before = last.paths
	if names.now, names.err = c.trackedFiles(ctx); names.err == nil {
		names.links, names.err = c.Git.Submodules(ctx, links)
	}
	return names
}

// tracksTheSame tells whether the files of a roster are those that count although git's index is
// another one: as after a commit. What git tracks now and did not track must be among them, and what it
// tracks no more must not. The roster's tracked paths become the present ones.
func (r *roster) tracksTheSame(names trackedNames) bool {
	if names.err != nil || len(names.links) < len(r.links) {
		return false
	}
	sum := pathsSum(names.now)
	if sum != r.tracked && (pathsSum(names.before) != r.tracked || !r.explains(names.before, names.now)) {
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

// explains tells whether tracked paths that are new count already, and those that are gone do not.
func (r *roster) explains(before, now []string) bool {
	for len(before) > 0 || len(now) > 0 {
		switch {
		case len(before) > 0 && len(now) > 0 && before[0] == now[0]:
			before, now = before[1:], now[1:]
		case len(now) == 0 || len(before) > 0 && before[0] < now[0]:
			if r.has(before[0]) {
				return false
			}
			before = before[1:]
		default:
			if !r.has(now[0]) {
				return false
			}
			now = now[1:]
		}
	}
	return true
}

func (r *roster) has(p string) bool {
	i, ok := r.directory(path.Dir(p))
	return ok && r.dirs[i].has(path.Base(p))
}

func (d *rosterDir) has(name string) bool {
	_, ok := slices.BinarySearch(d.names, name)
	return ok
}

// directory finds a directory of the roster.
func (r *roster) directory(p string) (i int, ok bool) {
	return slices.BinarySearchFunc(r.dirs, p, func(d rosterDir, dir string) int { return strings.Compare(d.path, dir) })
}

// mostAmended is the largest number of directories with changes that are amended, beside a quarter of
// all: outputs that come and go change the directories that they are in.
const mostAmended = 100

// take takes the status of all directories and files. The list has no files of the directories with
// changes. It fails if there are too many of these.
func (r *roster) take(ctx context.Context, root string) (list []found, changed []int, ok bool) {
	at, err := unix.Open(root, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, nil, false
	}
	defer unix.Close(at)
	list = make([]found, r.files)
	var mu sync.Mutex
	var failed atomic.Bool
	inChunks(ctx, len(r.dirs), func(i int) {
		if failed.Load() || r.dirs[i].take(at, list) {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		if changed = append(changed, i); len(changed) > mostAmended+len(r.dirs)/4 {
			failed.Store(true)
		}
	})
	return list, changed, !failed.Load() && ctx.Err() == nil
}

// take takes the status of the directory's files. It fails, and leaves the list as it is, if anything
// is not there as it was.
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
			for _, rank := range d.ranks[:i] {
				list[rank] = found{}
			}
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
	r := &roster{index: index, tracked: s.sum, ignored: s.known.state, rules: s.rules, repos: s.repos, links: s.submodules()}
	for _, f := range s.rules {
		if !safe(f.st, taken) {
			return
		}
	}
	for _, dir := range sortedKeys(s.names.seen) {
		l := s.names.seen[dir]
		if !safe(l.st, l.taken) {
			return
		}
		r.dirs = append(r.dirs, rosterDir{path: dir, st: l.st})
	}
	if r.place(s.files) {
		_ = rosterFormat.Save(s.c.stateFile("survey"), r)
	}
}

// place puts the names of files, which are sorted, into their directories. It fails if one is missing.
func (r *roster) place(files []found) bool {
	at := make(map[string]*rosterDir, len(r.dirs))
	for i := range r.dirs {
		d := &r.dirs[i]
		d.names, d.ranks = nil, nil
		at[d.path] = d
	}
	for rank, f := range files {
		d := at[path.Dir(f.path)]
		if d == nil {
			return false
		}
		d.names, d.ranks = append(d.names, path.Base(f.path)), append(d.ranks, uint32(rank))
	}
	r.files = len(files)
	return true
}

func sortedKeys(m map[string]listed) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
