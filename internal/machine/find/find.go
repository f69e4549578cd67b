// Package find searches for an existing result of a task: on the disk, in this
// machine's cache and in the shared cache. Facts go to core/decide, which says
// what to look at next, and finally what happens. Nothing in the checkout is
// changed here.
package find

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/look"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
)

// Finder starts searches.
type Finder struct {
	Work    *outputs.Workspace
	Blobs   *transfer.Blobs
	Lookups *Lookups // nil: there is no shared cache
	Origins []store.Origin
	Warn    func(sentence string)
}

// Request says which task is searched for, and under which rules.
type Request struct {
	Task    *graph.Task
	Taken   look.Taken
	Rules   decide.Rules
	Pending []string // in a plan: dependencies whose outputs are not certain
}

// Search is the search for a result of one task.
type Search struct {
	Request
	f       *Finder
	facts   decide.Facts
	last    checkout.Record
	lastOK  bool
	list    listing.List // of the last result, if the disk has it
	entries map[decide.Source]protocol.Entry
	lists   map[decide.Source]listing.List
}

// Search starts a search.
func (f *Finder) Search(r Request) *Search {
	s := &Search{Request: r, f: f, entries: map[decide.Source]protocol.Entry{}, lists: map[decide.Source]listing.List{}}
	s.last, s.lastOK = f.Work.State.Last(r.Task.Addr())
	s.facts = decide.Facts{Rules: r.Rules, Key: r.Taken.Key, Pending: r.Pending, Line: f.Blobs.Line()}
	s.facts.Rules.CanFetch = f.Blobs.CanFetch()
	if s.lastOK {
		s.facts.Last = &decide.Last{Key: s.last.Key, Failed: s.last.Failed, Seconds: s.last.Here, Unkept: s.last.Unkept}
		s.facts.Rules.MayCompare = r.Rules.MayCompare && r.Task.Reuse == decl.Auto && !s.last.Fetch
	}
	return s
}

// Decide collects facts until there is a decision.
func (s *Search) Decide(ctx context.Context) (decide.Decision, error) {
	for {
		step := decide.Next(&s.facts)
		if step.Ask == decide.Nothing {
			return step.Decision, nil
		}
		if err := ctx.Err(); err != nil {
			return decide.Decision{}, err
		}
		if err := s.answer(ctx, step); err != nil {
			return decide.Decision{}, err
		}
	}
}

func (s *Search) answer(ctx context.Context, step decide.Step) error {
	switch step.Ask {
	case decide.AskDisk:
		return s.lookAtDisk(ctx)
	case decide.AskLocal:
		s.facts.Local = s.localEntries()
	case decide.AskShared:
		s.facts.Shared = s.sharedEntries(ctx)
	case decide.AskOffer:
		return s.examine(ctx, step.Offer)
	case decide.AskChanges:
		s.facts.Changes = s.compare(ctx)
	}
	return nil
}

// Last returns the last result in this checkout, and its listing if the disk
// was found to have it.
func (s *Search) Last() (checkout.Record, listing.List, bool) { return s.last, s.list, s.lastOK }

// Entry returns an offered entry and its listing.
func (s *Search) Entry(from decide.Source) (protocol.Entry, listing.List) {
	return s.entries[from], s.lists[from]
}

// Discard excludes an entry that turned out not to be usable, and warns if
// somebody should know.
func (s *Search) Discard(from decide.Source, err error) {
	o := s.offer(from)
	o.State = decide.Gone
	if from.Shared && !errors.Is(err, protocol.ErrGone) {
		o.State = decide.Unusable
	}
	if !errors.Is(err, protocol.ErrGone) && !errors.Is(err, protocol.ErrDown) {
		by := s.entries[from].MadeBy.Name
		if by == "" {
			by = "somebody"
		}
		s.f.Warn(fmt.Sprintf("%s: the result built by %s is not used: %v", s.Task.Addr(), by, err))
	}
}

func (s *Search) offer(from decide.Source) *decide.Offer {
	if from.Shared {
		return &s.facts.Shared.List[from.Index]
	}
	return &s.facts.Local.List[from.Index]
}

func (s *Search) lookAtDisk(ctx context.Context) error {
	list, ok := s.f.Work.LastListing(s.Task)
	if !ok || s.f.Work.Store.IsWithdrawn(s.last.Key, s.last.Listing) {
		s.facts.Disk = decide.No
		return nil
	}
	right, err := s.f.Work.Outputs(s.Task).Right(ctx, list)
	s.facts.Disk, s.list = decide.Say(right), list
	return err
}

func (s *Search) localEntries() decide.Offers {
	out := decide.Offers{Asked: true}
	for _, o := range s.f.Origins {
		if e, ok := s.f.Work.Store.Entry(s.Taken.Key, o); ok {
			s.entries[decide.Source{Index: len(out.List)}] = e
			out.List = append(out.List, decide.Offer{})
		}
	}
	return out
}

func (s *Search) sharedEntries(ctx context.Context) decide.Offers {
	out := decide.Offers{Asked: true}
	if s.f.Lookups == nil || !s.Task.IsShareable() {
		return out
	}
	for _, e := range s.f.Lookups.Entries(ctx, s.Task, s.Taken.Key) {
		if s.f.Work.Store.IsWithdrawn(e.Key, e.Listing) {
			continue
		}
		s.entries[decide.Source{Shared: true, Index: len(out.List)}] = e
		out.List = append(out.List, decide.Offer{})
	}
	return out
}

// examine finds out whether an entry can be used.
func (s *Search) examine(ctx context.Context, from decide.Source) error {
	list, err := s.f.Blobs.Listing(ctx, s.entries[from].Listing)
	out := s.f.Work.Outputs(s.Task)
	if err == nil {
		err = out.Check(list)
	}
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		s.Discard(from, err)
		return nil
	}
	right, err := out.Right(ctx, list)
	if err != nil {
		return err
	}
	s.lists[from] = list
	*s.offer(from) = decide.Offer{State: decide.Usable, Empty: len(list) == 0, OnDisk: right, Missing: s.f.Blobs.Missing(list)}
	return nil
}

// compare compares the ingredients with those of the last result.
func (s *Search) compare(ctx context.Context) decide.Changes {
	out := decide.Changes{Asked: true}
	read := s.Taken.Reader(func(d digest.Digest) ([]byte, error) { return s.f.Blobs.Read(ctx, d) })
	text, err := read(s.last.Ingredients)
	if err != nil {
		return out
	}
	before, err := key.Decode(text)
	if err != nil {
		return out
	}
	out.Known, out.List = true, key.Compare(before, s.Taken.In, read)
	return out
}

// WithCheckout adds, for each origin, that of results which are right in one checkout alone.
func WithCheckout(list []store.Origin, checkout string) []store.Origin {
	for _, o := range list {
		o.Checkout = checkout
		list = append(list, o)
	}
	return list
}

// Origins returns the origins of entries that a run may use: those that this
// client made for its own shelf, and those of the shelves that its token reads
// from. Without a service, self is zero.
func Origins(repo, service string, self protocol.Self) []store.Origin {
	if self.Repo == "" {
		return []store.Origin{{Repo: repo}}
	}
	shelves := slices.Clone(self.ReadsFrom)
	if s := self.WritesTo; s != "" && !slices.Contains(shelves, s) {
		shelves = append(shelves, s)
	}
	var out []store.Origin
	for _, s := range shelves {
		out = append(out, store.Origin{Repo: repo, Service: service, Shelf: s})
	}
	if self.WritesTo != "trusted" { // entries made without a service belong to a person
		out = append(out, store.Origin{Repo: repo})
	}
	return out
}
