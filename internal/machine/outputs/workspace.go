package outputs

import (
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/store"
)

// Workspace gives access to the outputs of tasks in one run.
type Workspace struct {
	State  *checkout.State
	Files  *files.Checkout
	Store  *store.Store
	Run    string       // id, for the directory of displaced files
	Report func(string) // receives a sentence for the person
}

// Outputs returns the outputs of a task in the checkout.
func (w *Workspace) Outputs(t *graph.Task) *Set {
	return &Set{State: w.State, Files: w.Files, Store: w.Store, Task: t, Run: w.Run, Report: w.Report}
}

// LastListing returns the listing of the task's last result in this checkout,
// if it is still available. If this machine's cache no longer has it, as after the cache was
// deleted, the outputs on the disk may still be those: their listing then has the same digest,
// and is stored again.
func (w *Workspace) LastListing(t *graph.Task) (listing.List, bool) {
	last, ok := w.State.Last(t.Addr())
	if !ok || last.Listing.IsZero() {
		return nil, false
	}
	if l, ok := w.Listing(last.Listing); ok {
		return l, true
	}
	l := w.Outputs(t).Now()
	text := l.Encode()
	if digest.Of(text) != last.Listing {
		return nil, false
	}
	_ = w.Store.KeepText(last.Listing, text) // otherwise it is made again the next time
	return l, true
}

// OwnFiles returns a listing of what the last run of a task left in this checkout, for [Set.Clear]:
// its last listing, or, if its outputs could not be kept, those files that are certainly its own.
func (w *Workspace) OwnFiles(t *graph.Task) listing.List {
	last, _ := w.State.Last(t.Addr())
	if last.Unkept == "" {
		list, _ := w.LastListing(t)
		return list
	}
	if last.Left.IsZero() {
		return nil
	}
	text, err := w.Store.Read(last.Left)
	if err != nil {
		return nil // they are displaced
	}
	list, _ := listing.ParseOwn(text)
	return list
}

// noOutputs is the digest of an empty listing.
var noOutputs = listing.List(nil).Digest()

// Listing returns a listing from this machine's cache.
func (w *Workspace) Listing(d digest.Digest) (listing.List, bool) {
	if d == noOutputs {
		return nil, true
	}
	l, err := w.Store.Listing(d)
	return l, err == nil
}
