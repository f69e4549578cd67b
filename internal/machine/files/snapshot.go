package files

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/tree"
	"grayloft.example/grayloft/internal/machine/git"
)

// Checkout is the files of a repository on this disk.
type Checkout struct {
	Root   string
	Git    git.Repo
	Memory *Memory
	Graph  *graph.Graph

	mu      sync.Mutex
	ignored map[string]bool         // whether git ignores untracked paths, as far as it was asked, by [ruled]
	links   []string                // directories of submodules, sorted, as the last survey found them
	repos   []string                // of other repositories that git does not ignore
	early   func() ([]found, error) // waits for what [Checkout.Ahead] started, until that is used
	earlyAt int64                   // when it started, in nanoseconds since 1970
	clock   func() time.Time        // nil: that of the machine
}

func (c *Checkout) now() time.Time {
	if c.clock == nil {
		return time.Now()
	}
	return c.clock()
}

// Snapshot looks at the checkout's files as they are now, below the given
// directories or everywhere.
func (c *Checkout) Snapshot(ctx context.Context, below ...string) (*Snapshot, error) {
	if len(below) > 0 {
		paths, ignored, err := c.list(ctx, below)
		if err != nil {
			return nil, err
		}
		return c.snapshot(paths, nil, ignored), nil
	}
	v, err := c.Survey(ctx)
	if err != nil {
		return nil, err
	}
	return c.SnapshotOf(v)
}

// SnapshotOf returns the snapshot of a survey's files.
func (c *Checkout) SnapshotOf(v *Survey) (*Snapshot, error) {
	list := v.list
	paths := make([]string, len(list))
	for i, f := range list {
		paths[i] = f.path
	}
	return c.snapshot(paths, list, v.ignored), nil
}

// snapshot assembles a snapshot. Known, if given, are the same paths with their
// status.
func (c *Checkout) snapshot(paths []string, known []found, ignored tree.Ignored) *Snapshot {
	names := sync.OnceValue(func() []string { // only if outputs are not ignored
		list, err := c.trackedFiles(context.Background())
		if err != nil {
			return paths // nobody knows which are not tracked: all of them count
		}
		return list
	})
	tree := tree.New(c.Graph, paths, ignored, func(p string) bool {
		_, is := slices.BinarySearch(names(), p)
		return is
	})
	s := &Snapshot{
		checkout: c, Tree: tree, paths: paths, rows: make([]atomic.Pointer[rowResult], tree.Len()), offers: map[*graph.Project]manifest{},
	}
	if known != nil {
		s.stamps = make([]stamp, tree.Len())
		for _, f := range known {
			if f.dir() {
				s.closed = append(s.closed, f.path)
			}
		}
		k := 0
		for i := range s.stamps { // both are sorted, and the tree lacks the outputs of tasks
			for known[k].path != tree.Path(i) {
				k++
			}
			s.stamps[i] = known[k].st
		}
	}
	return s
}

// Snapshot is the set of files at one moment, with rows that are read on
// demand. It is safe for concurrent use.
type Snapshot struct {
	*tree.Tree
	checkout *Checkout
	paths    []string
	stamps   []stamp                     // by number, if they were taken on the way
	rows     []atomic.Pointer[rowResult] // by number; nil if few rows are needed
	mu       sync.Mutex
	few      map[int]*rowResult
	closed   []string                 // directories that cannot be read
	reads    map[*graph.Task]manifest // as far as [Snapshot.Warm] read them
	offers   map[*graph.Project]manifest
}

type rowResult struct {
	row listing.Row
	err error
}

type manifest struct {
	root  digest.Digest
	paths []int
	links []string
}

// row returns the row of a file, read once per snapshot.
func (s *Snapshot) row(i int) (listing.Row, error) {
	if r := s.known(i); r != nil {
		return r.row, r.err
	}
	r := &rowResult{}
	var at stamp
	if s.stamps != nil {
		at = s.stamps[i]
	}
	r.row, r.err = s.checkout.Memory.rowAt(s.Path(i), at)
	if s.rows != nil {
		s.rows[i].Store(r)
	} else {
		s.mu.Lock()
		s.few[i] = r
		s.mu.Unlock()
	}
	return r.row, r.err
}

func (s *Snapshot) known(i int) *rowResult {
	if s.rows != nil {
		return s.rows[i].Load()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.few[i]
}

// Warm reads the files of tasks in parallel, so that they are known when the
// tasks are settled.
func (s *Snapshot) Warm(ctx context.Context, tasks []*graph.Task) {
	offering := map[*graph.Project]bool{}
	var projects []*graph.Project
	for _, t := range tasks {
		if t.NeedsRead() {
			for _, p := range t.Project.NeedsAll {
				if !offering[p] {
					offering[p] = true
					projects = append(projects, p)
				}
			}
		}
	}
	s.reads = make(map[*graph.Task]manifest, len(tasks))
	inChunks(ctx, len(tasks)+len(projects), func(i int) {
		// Whoever needs the files gets the error again.
		if i >= len(tasks) {
			_, _ = s.offered(projects[i-len(tasks)])
		} else if m, err := s.manifest(s.Tree.Reads(tasks[i])); err == nil {
			s.mu.Lock()
			s.reads[tasks[i]] = m
			s.mu.Unlock()
		}
	})
}

// inChunks calls do for every number below n, in parallel.
func inChunks(ctx context.Context, n int, do func(i int)) {
	const chunk = 16
	var next atomic.Int64
	var wg sync.WaitGroup
	for range 2 * runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for ctx.Err() == nil {
				from := int(next.Add(chunk)) - chunk
				if from >= n {
					return
				}
				for i := from; i < min(from+chunk, n); i++ {
					do(i)
				}
				runtime.Gosched()
			}
		})
	}
	wg.Wait()
}

// fewRows is how many files are read one after the other.
const fewRows = 2000

// manifest returns the digest of the manifests of files. Those of earlier sets
// are remembered.
func (s *Snapshot) manifest(files []int) (manifest, error) {
	var links []string
	room := summed.Get().(*[]byte)
	rows := (*room)[:0]
	defer func() {
		*room = rows[:0]
		summed.Put(room)
	}()
	if len(files) > fewRows {
		inChunks(context.Background(), len(files), func(i int) { _, _ = s.row(files[i]) }) // below, there is the error again
	}
	for _, i := range files {
		r, err := s.row(i)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return manifest{}, err
		}
		if r.Kind == listing.Link {
			links = append(links, r.Path)
		}
		rows = appendRow(rows, r)
	}
	set := digest.Of(rows)
	root, known := s.checkout.Memory.manifestOf(set)
	if !known {
		root = s.rowsOf(files).Root()
		s.checkout.Memory.noteManifest(set, root)
	}
	return manifest{root, files, links}, nil
}

// rowsOf returns the rows of the files that exist.
func (s *Snapshot) rowsOf(files []int) listing.List {
	rows := make(listing.List, 0, len(files))
	for _, i := range files {
		if r, err := s.row(i); err == nil {
			rows = append(rows, r)
		}
	}
	return rows
}

// Fingerprint returns a digest of the statuses of paths, to tell whether any of
// them changed in between.
func (s *Snapshot) Fingerprint(paths []string) digest.Digest {
	const piece = 256 // paths that are looked at together
	sums := make([]byte, (len(paths)+piece-1)/piece*digest.Size)
	inChunks(context.Background(), len(sums)/digest.Size, func(i int) {
		buf := summed.Get().(*[]byte)
		defer summed.Put(buf)
		b := (*buf)[:0]
		for _, p := range paths[i*piece : min((i+1)*piece, len(paths))] {
			if st, ok := s.status(p); ok { // a missing file counts as absent
				b = appendStamp(append(append(b, p...), 0), st)
			}
		}
		*buf = b
		sum := digest.Of(b)
		copy(sums[i*digest.Size:], sum[:])
	})
	return digest.Of(sums)
}

// status returns the status of a path, as it was taken with the snapshot or else as it is now.
func (s *Snapshot) status(p string) (stamp, bool) {
	if s.stamps != nil {
		if i, ok := s.Index(p); ok && s.stamps[i] != (stamp{}) {
			return s.stamps[i], true
		}
	}
	st, err := statusOf(filepath.Join(s.checkout.Root, filepath.FromSlash(p)))
	return st, err == nil
}

// Paths returns the paths of the snapshot, sorted.
func (s *Snapshot) Paths() []string { return s.paths }

// Reading returns how many files tasks read, each counted once, but at most
// most.
func (s *Snapshot) Reading(tasks []*graph.Task, most int) int {
	seen, offering := map[int]bool{}, map[*graph.Project]bool{}
	add := func(files []int) {
		for _, f := range files {
			seen[f] = true
		}
	}
	for _, t := range tasks {
		add(s.Tree.Reads(t))
		if t.NeedsRead() {
			for _, p := range t.Project.NeedsAll {
				if !offering[p] {
					offering[p] = true
					add(s.Tree.Offers(p))
				}
			}
		}
		if len(seen) > most {
			return most
		}
	}
	return len(seen)
}
