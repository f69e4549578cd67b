package engine

import (
	"sync/atomic"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
)

// Output is the listing of a task that has a result. It never changes.
type Output struct {
	List   listing.List
	Digest digest.Digest
	OnDisk bool
}

// NewOutput returns the output with a listing. Its digest is computed if it is not known: zero.
func NewOutput(list listing.List, known digest.Digest, onDisk bool) *Output {
	if known.IsZero() {
		known = list.Digest()
	}
	return &Output{list, known, onDisk}
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

func (o *Outputs) set(t *graph.Task, out *Output) { o.of[t].Store(out) }

// Listing returns the digest of a task's listing; zero if it has no result.
func (o *Outputs) Listing(t *graph.Task) digest.Digest {
	if out := o.Get(t); out != nil {
		return out.Digest
	}
	return digest.Digest{}
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
