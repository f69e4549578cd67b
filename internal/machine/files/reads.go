package files

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/tree"
)

// Parts are the files that a task reads, and the texts that its ingredients refer to by digest. They
// are assembled on demand.
type Parts struct {
	s    *Snapshot
	sets [][]int
}

// Rows returns the rows of all files, sorted, with paths from the root.
func (p Parts) Rows() listing.List {
	var rows listing.List
	for _, files := range p.sets {
		rows = append(rows, p.s.rowsOf(files)...)
	}
	rows.Sort()
	return slices.CompactFunc(rows, func(a, b listing.Row) bool { return a.Path == b.Path })
}

// Paths returns the paths of all files, sorted, those that do not exist as well.
func (p Parts) Paths() []string {
	var paths []string
	for _, files := range p.sets {
		for _, i := range files {
			paths = append(paths, p.s.Path(i))
		}
	}
	slices.Sort(paths)
	return slices.Compact(paths)
}

// Left is what a task can see of the outputs of its dependencies.
type Left struct {
	// Contains tells whether the listing of a dependency contains a path, from the root.
	Contains func(path string) bool
	// Leads are links among the outputs that lead out of their own listing.
	Leads []Lead
}

// Lead is a link among outputs.
type Lead struct{ Link, Target string }

// All returns the texts by digest.
func (p Parts) All() map[digest.Digest][]byte {
	out := map[digest.Digest][]byte{}
	for _, files := range p.sets {
		_, texts := p.s.rowsOf(files).Manifests()
		maps.Copy(out, texts)
	}
	return out
}

// Reads returns the manifests of what a task reads and of what its needed
// projects offer, and the texts of all of them.
func (s *Snapshot) Reads(t *graph.Task, left Left) (own digest.Digest, needs []key.Offer, parts Parts, err error) {
	for _, dir := range s.closed {
		if err := closedDirectory(filepath.Join(s.checkout.Root, filepath.FromSlash(dir)), dir); t.MayReadBelow(dir) && !isGone(err) {
			return own, nil, Parts{}, err
		}
	}
	s.mu.Lock()
	mine, known := s.reads[t]
	s.mu.Unlock()
	if more := s.more(t, left); len(more) > 0 {
		mine, err = s.manifest(union(s.Tree.Reads(t), more))
	} else if !known {
		mine, err = s.manifest(s.Tree.Reads(t))
	}
	if err != nil {
		return own, nil, Parts{}, err
	}
	links, read := mine.links, [][]int{mine.paths}
	if t.NeedsRead() {
		for _, p := range t.Project.NeedsAll {
			m, err := s.offered(p)
			if err != nil {
				return own, nil, Parts{}, err
			}
			needs = append(needs, key.Offer{Project: p.Name, Dir: p.Dir, Files: m.root})
			links, read = append(links, m.links...), append(read, m.paths)
		}
	}
	return mine.root, needs, Parts{s, read}, s.checkLinks(t, links, left, read)
}

// PathsOf returns the paths of all files that a task reads, sorted, without looking at them.
func (s *Snapshot) PathsOf(t *graph.Task, left Left) ([]string, error) {
	sets := [][]int{s.Tree.Reads(t), s.more(t, left)}
	if t.NeedsRead() {
		for _, p := range t.Project.NeedsAll {
			sets = append(sets, s.Tree.Offers(p))
		}
	}
	return Parts{s, sets}.Paths(), nil
}

// more returns files that count although no pattern of the task finds them: those that git tracks
// among outputs, unless a listing contains them, and those that links among outputs lead to.
func (s *Snapshot) more(t *graph.Task, left Left) (out []int) {
	for _, i := range s.Tree.Written(t) {
		if !left.Contains(s.Path(i)) {
			out = append(out, i)
		}
	}
	for _, l := range left.Leads {
		for _, i := range s.Tree.Below(path.Join(path.Dir(l.Link), l.Target)) {
			if !left.Contains(s.Path(i)) && !t.WritesFile(s.Path(i)) {
				out = append(out, i)
			}
		}
	}
	return out
}

func union(a, b []int) []int {
	out := slices.Concat(a, b)
	slices.Sort(out)
	return slices.Compact(out)
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

func (s *Snapshot) checkLinks(t *graph.Task, links []string, left Left, lists [][]int) error {
	if len(links)+len(left.Leads) == 0 {
		return nil
	}
	targets := map[string]string{} // of links that the disk need not have
	for _, l := range left.Leads {
		targets[l.Link] = l.Target
		links = append(links[:len(links):len(links)], l.Link)
	}
	read := map[string]bool{}
	for _, l := range lists {
		for _, i := range l {
			read[s.Path(i)] = true
		}
	}
	ask := tree.Links{
		Target: func(p string) (string, bool) {
			if target, ok := targets[p]; ok {
				return target, true
			}
			if left.Contains(p) {
				return "", false // it has been looked at with its own listing
			}
			target, err := os.Readlink(filepath.Join(s.checkout.Root, filepath.FromSlash(p)))
			return filepath.ToSlash(target), err == nil
		},
		Exists: s.checkout.exists,
	}
	for _, l := range links {
		if err := s.Tree.CheckLink(t, l, read, left.Contains, ask); err != nil {
			return err
		}
	}
	return nil
}
