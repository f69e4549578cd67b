package main

import "slices"

// edit is a change of one file.
type edit struct {
	class class
	path  string
}

// workspace is a working copy of the repository: what its files contain, which
// keys and listings follow from that, and what was settled in it before.
type workspace struct {
	m        *model
	content  [][classes]uint64 // of each project
	meaning  [][classes]uint64 // as content, but the same if a change makes no difference to outputs
	keys     []uint64          // of each task
	listings []uint64
	edits    [][]edit // of each project, since the beginning
	merged   []int    // how many of them main has as well

	settled []settled
	commit  uint64
	pending []pending
}

// pending is an edit that main does not have yet.
type pending struct {
	project  int
	edit     edit
	version  uint64
	cosmetic bool
}

// settled is the last result of a task in a working copy.
type settled struct {
	key, listing uint64
	edits        int // how many edits of the project it includes
	run          string
	failed       bool
}

func newWorkspace(m *model) *workspace {
	w := &workspace{
		m: m, content: make([][classes]uint64, len(m.projects)), meaning: make([][classes]uint64, len(m.projects)),
		keys: make([]uint64, len(m.tasks)), listings: make([]uint64, len(m.tasks)), edits: make([][]edit, len(m.projects)),
		merged: make([]int, len(m.projects)), settled: make([]settled, len(m.tasks)),
	}
	for i := range m.tasks {
		w.compute(i)
	}
	return w
}

// compute computes the key and the listing of a task, and tells whether the
// listing changed.
func (w *workspace) compute(i int) bool {
	t := &w.m.tasks[i]
	key, listing := uint64(i+1), uint64(i+1)
	for _, c := range t.reads {
		key = mix(key, w.content[t.owner][c])
		if c != logs {
			listing = mix(listing, w.meaning[t.owner][c])
		}
	}
	for _, u := range t.after {
		key, listing = mix(key, w.listings[u]), mix(listing, w.listings[u])
	}
	if !t.outputs {
		listing = 1
	}
	w.keys[i] = key
	changed := w.listings[i] != listing
	w.listings[i] = listing
	return changed
}

// change edits a file. A cosmetic change makes no difference to outputs.
func (w *workspace) change(p int, e edit, version uint64, cosmetic bool) {
	w.edits[p] = append(w.edits[p], e)
	w.content[p][e.class] = mix(w.content[p][e.class], version)
	if !cosmetic {
		w.meaning[p][e.class] = mix(w.meaning[p][e.class], version)
	}
	w.commit = mix(version, w.commit)
	dirty := map[int]bool{}
	for _, i := range w.m.projects[p].tasks {
		dirty[i] = slices.Contains(w.m.tasks[i].reads, e.class)
	}
	for i := w.m.projects[p].tasks[0]; i < len(w.m.tasks); i++ {
		if dirty[i] && w.compute(i) {
			for _, d := range w.m.tasks[i].before {
				dirty[d] = true
			}
		}
	}
}

// take makes the files those of another working copy, whose edits continue those
// of this one.
func (w *workspace) take(from *workspace) {
	copy(w.content, from.content)
	copy(w.meaning, from.meaning)
	copy(w.keys, from.keys)
	copy(w.listings, from.listings)
	for p := range from.edits {
		w.edits[p] = append(w.edits[p], from.edits[p][min(w.merged[p], len(from.edits[p])):]...)
		w.merged[p] = len(from.edits[p])
	}
	for _, x := range w.pending { // discarded: these files change back
		w.edits[x.project] = append(w.edits[x.project], x.edit)
	}
	w.commit, w.pending = from.commit, nil
}

// merge applies the edits that main does not have to it.
func (w *workspace) merge(main *workspace) {
	for _, p := range w.pending {
		if w.merged[p.project] == len(main.edits[p.project]) {
			w.merged[p.project]++
		}
		main.change(p.project, p.edit, p.version, p.cosmetic)
	}
	w.pending = nil
	w.take(main)
}

// changes returns which files a task reads changed since it was settled.
func (w *workspace) changes(i int) (paths []string) {
	t := &w.m.tasks[i]
	for _, e := range w.edits[t.owner][w.settled[i].edits:] {
		if slices.Contains(t.reads, e.class) && !slices.Contains(paths, e.path) {
			paths = append(paths, e.path)
		}
	}
	return paths
}

// settle records the result of a task.
func (w *workspace) settle(i int, run string, failed bool) {
	s := &w.settled[i]
	s.failed = failed
	if !failed {
		*s = settled{key: w.keys[i], listing: w.listings[i], edits: len(w.edits[w.m.tasks[i].owner]), run: run}
	}
}

// forRunner returns the working copy of a runner that has these files, and
// nothing that was settled before.
func (w *workspace) forRunner() *workspace {
	runner := *w
	runner.settled = make([]settled, len(w.settled))
	return &runner
}
