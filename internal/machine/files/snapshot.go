package files

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/git"
)

// Checkout is a repository's files on this disk.
type Checkout struct {
	Root   string
	Git    git.Repo
	Memory *Memory
	Graph  *graph.Graph
}

// List returns the paths of files that tasks may read, below the given
// directories or everywhere: what git tracks or does not ignore, and ignored
// files where a pattern's own literal start is ignored.
func (c *Checkout) List(ctx context.Context, below ...string) ([]string, error) {
	var starts []string
	for _, s := range c.Graph.IgnoredStarts() {
		if (len(below) == 0 || slices.ContainsFunc(below, func(b string) bool { return inside(s, b) || inside(b, s) })) && c.exists(s) {
			starts = append(starts, s)
		}
	}
	var paths, ignored []string
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) { paths, err = c.Git.Files(gctx, below...); return err })
	g.Go(func() (err error) { ignored, err = c.Git.Ignored(gctx, starts); return err })
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for _, s := range ignored {
		more, err := c.walk(s)
		if err != nil {
			return nil, err
		}
		paths = append(paths, more...)
	}
	slices.Sort(paths)
	return slices.Compact(paths), nil
}

func inside(p, dir string) bool {
	return dir == "" || dir == "." || p == dir || strings.HasPrefix(p, dir+"/")
}

func (c *Checkout) exists(p string) bool {
	_, err := os.Lstat(filepath.Join(c.Root, filepath.FromSlash(p)))
	return err == nil
}

func (c *Checkout) walk(start string) ([]string, error) {
	var out []string
	err := filepath.WalkDir(filepath.Join(c.Root, filepath.FromSlash(start)), func(p string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(c.Root, p)
		out = append(out, filepath.ToSlash(rel))
		return err
	})
	return out, err
}

// Snapshot takes the checkout's files as they are now, below the given
// directories or everywhere.
func (c *Checkout) Snapshot(ctx context.Context, below ...string) (*Snapshot, error) {
	paths, err := c.List(ctx, below...)
	if err != nil {
		return nil, err
	}
	return &Snapshot{
		checkout: c, Tree: key.NewTree(c.Graph, paths), paths: paths,
		rows: map[string]rowResult{}, offers: map[*graph.Project]manifest{},
	}, nil
}

// Snapshot is the set of files at one moment, with their rows as they are
// asked for. It is safe for concurrent use.
type Snapshot struct {
	*key.Tree
	checkout *Checkout
	paths    []string
	mu       sync.Mutex
	rows     map[string]rowResult
	offers   map[*graph.Project]manifest
}

type rowResult struct {
	row listing.Row
	err error
}

type manifest struct {
	root  digest.Digest
	parts map[digest.Digest][]byte
	paths []string
	links []string
}

// Row returns the row of a path, read once per snapshot.
func (s *Snapshot) Row(p string) (listing.Row, error) {
	s.mu.Lock()
	r, ok := s.rows[p]
	s.mu.Unlock()
	if !ok {
		r.row, r.err = s.checkout.Memory.Row(p)
		s.mu.Lock()
		s.rows[p] = r
		s.mu.Unlock()
	}
	return r.row, r.err
}

func (s *Snapshot) manifest(paths []string) (manifest, error) {
	var rows listing.List
	var links []string
	for _, p := range paths {
		r, err := s.Row(p)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return manifest{}, err
		}
		if r.Kind == listing.Link {
			links = append(links, p)
		}
		rows = append(rows, r)
	}
	root, parts := rows.Manifests()
	return manifest{root, parts, paths, links}, nil
}

// Parts holds the texts that a task's ingredients refer to by digest.
type Parts map[digest.Digest][]byte

// Reads returns the manifests of what a task reads, those of what its needed
// projects offer, and the texts of all.
func (s *Snapshot) Reads(t *graph.Task) (own digest.Digest, needs []key.Offered, parts Parts, err error) {
	mine, err := s.manifest(s.Tree.Reads(t))
	if err != nil {
		return own, nil, nil, err
	}
	parts = Parts(mine.parts)
	links := mine.links
	read := map[string]bool{}
	for _, p := range mine.paths {
		read[p] = true
	}
	if t.NeedsRead() {
		for _, p := range t.Project.NeedsAll {
			m, err := s.offered(p)
			if err != nil {
				return own, nil, nil, err
			}
			needs = append(needs, key.Offered{Project: p.Name, Dir: p.Dir, Files: m.root})
			for d, text := range m.parts {
				parts[d] = text
			}
			links = append(links, m.links...)
			for _, f := range m.paths {
				read[f] = true
			}
		}
	}
	return mine.root, needs, parts, s.checkLinks(t, links, read)
}

func (s *Snapshot) offered(p *graph.Project) (manifest, error) {
	s.mu.Lock()
	m, ok := s.offers[p]
	s.mu.Unlock()
	if ok {
		return m, nil
	}
	m, err := s.manifest(s.Tree.Offers(p))
	if err == nil {
		s.mu.Lock()
		s.offers[p] = m
		s.mu.Unlock()
	}
	return m, err
}

func (s *Snapshot) checkLinks(t *graph.Task, links []string, read map[string]bool) error {
	ask := key.Links{
		Target: func(p string) (string, bool) {
			target, err := os.Readlink(filepath.Join(s.checkout.Root, filepath.FromSlash(p)))
			return filepath.ToSlash(target), err == nil
		},
		Exists: s.checkout.exists,
	}
	for _, l := range links {
		if err := s.Tree.CheckLink(t, l, read, ask); err != nil {
			return err
		}
	}
	return nil
}

// Paths returns the paths of the snapshot, sorted.
func (s *Snapshot) Paths() []string { return s.paths }
