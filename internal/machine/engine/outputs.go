package engine

import (
	"path"
	"slices"
	"sort"
	"strings"
	"sync/atomic"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/files"
)

// Output is the listing of a task that has a result. It never changes.
type Output struct {
	List   listing.List
	Digest digest.Digest
	OnDisk bool
	leads  []files.Lead // links that lead out of the listing
	Unkept string       // why the outputs could not be kept; then they are on the disk, and nobody knows what they are
}

// NewOutput returns the output with a listing. Its digest is computed if it is not known: zero.
func NewOutput(list listing.List, known digest.Digest, onDisk bool) *Output {
	if known.IsZero() {
		known = list.Digest()
	}
	return &Output{List: list, Digest: known, OnDisk: onDisk}
}

// isSame tells whether two outputs are known to be the same.
func (o *Output) isSame(other *Output) bool {
	return o.Digest == other.Digest && o.Unkept == "" && other.Unkept == ""
}

// of returns the output as that of a task, whose project's directory paths are relative to.
func (o *Output) of(t *graph.Task) *Output {
	links := slices.ContainsFunc(o.List, func(r listing.Row) bool { return r.Kind == listing.Link })
	if !links {
		return o
	}
	out := *o
	out.leads = nil
	for _, r := range o.List {
		if r.Kind == listing.Link && !o.contains(path.Join(path.Dir(r.Path), r.Target)) {
			out.leads = append(out.leads, files.Lead{Link: path.Join(t.Project.Dir, r.Path), Target: r.Target})
		}
	}
	return &out
}

// contains tells whether the listing contains a path, as a file or as a directory.
func (o *Output) contains(rel string) bool {
	i := sort.Search(len(o.List), func(i int) bool { return o.List[i].Path >= rel })
	if i < len(o.List) && o.List[i].Path == rel {
		return true
	}
	i = sort.Search(len(o.List), func(i int) bool { return o.List[i].Path >= rel+"/" })
	return i < len(o.List) && strings.HasPrefix(o.List[i].Path, rel+"/")
}

// Outputs has the output of every task that has a result. The loop sets them;
// workers read them without waiting.
type Outputs struct {
	of map[*graph.Task]*atomic.Pointer[Output]
}

func newOutputs(tasks []*graph.Task) *Outputs {
	o := &Outputs{make(map[*graph.Task]*atomic.Pointer[Output], len(tasks))}
	for _, t := range tasks {
		o.of[t] = &atomic.Pointer[Output]{}
	}
	return o
}

// Get returns the output of a task; nil if it has no result.
func (o *Outputs) Get(t *graph.Task) *Output { return o.of[t].Load() }

func (o *Outputs) set(t *graph.Task, out *Output) { o.of[t].Store(out.of(t)) }

// Listing returns the digest of a task's listing; zero if it has no result.
func (o *Outputs) Listing(t *graph.Task) digest.Digest {
	if out := o.Get(t); out != nil {
		return out.Digest
	}
	return digest.Digest{}
}

// Contains tells whether the outputs of a task contain a path, from the root. Those of a task without a
// result are taken to contain whatever it may write.
func (o *Outputs) Contains(t *graph.Task, name string) bool {
	out := o.Get(t)
	if out == nil || out.Unkept != "" {
		return t.WritesFile(name)
	}
	rel, ok := name, true
	if t.Project.Dir != "." {
		rel, ok = strings.CutPrefix(name, t.Project.Dir+"/")
	}
	return ok && out.contains(rel)
}

// Leads returns the links among the outputs of a task that lead out of its listing.
func (o *Outputs) Leads(t *graph.Task) []files.Lead {
	if out := o.Get(t); out != nil {
		return out.leads
	}
	return nil
}

// Unkept returns the address of a task whose outputs another one reads, and could not be kept; "" if
// there is none.
func (o *Outputs) Unkept(t *graph.Task) string {
	for _, u := range t.KeyDependencies() {
		if out := o.Get(u); out != nil && out.Unkept != "" {
			return u.Addr()
		}
	}
	return ""
}

// areOnDisk tells whether the disk has all outputs that a task reads.
func (o *Outputs) areOnDisk(t *graph.Task) bool {
	for _, u := range t.KeyDependencies() {
		if out := o.Get(u); out == nil || !out.OnDisk && len(out.List) > 0 {
			return false
		}
	}
	return true
}
