package engine

import (
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/fingerprint"
)

// settleUnchanged makes a result for every task whose fingerprint is unchanged
// and whose dependencies have one.
func (s *Session) settleUnchanged(prints *fingerprint.Fingerprints, settle func(*Result)) {
	if prints.IsEmpty() {
		return
	}
	current := make(map[*graph.Task]bool, len(s.Tasks))
	for _, t := range s.Tasks {
		if last, ok := s.engine.State.Last(t.Addr()); ok && !last.Failed && t.WritesGiven() && prints.IsUnchanged(t) && areIn(current, t) {
			current[t] = true
		}
	}
	lists, ok := s.listingsFor(current)
	if !ok {
		return // a listing is lost: settle everything in the usual way
	}
	for _, t := range s.Tasks {
		if !current[t] {
			continue
		}
		last, _ := s.engine.State.Last(t.Addr())
		s.Outputs.set(t, &Output{List: lists[t], Digest: last.Listing, OnDisk: true})
		r := &Result{Task: t, Picked: s.rules.picked[t], Outcome: decide.Current}
		r.Timing = Timing{At: s.clock.since(s.clock.began), Made: last.Took}
		r.Digests = Digests{last.Key, last.Listing, last.Log, last.Ingredients}
		settle(r)
	}
}

func areIn(current map[*graph.Task]bool, t *graph.Task) bool {
	for _, u := range t.Dependencies {
		if !current[u] {
			return false
		}
	}
	return true
}

// listingsFor reads the listings of current tasks that other tasks depend on.
func (s *Session) listingsFor(current map[*graph.Task]bool) (map[*graph.Task]listing.List, bool) {
	lists := map[*graph.Task]listing.List{}
	for _, t := range s.Tasks {
		if current[t] {
			continue
		}
		for _, u := range t.KeyDependencies() {
			if _, have := lists[u]; !current[u] || have {
				continue
			}
			list, ok := s.Delivery.Work.LastListing(u)
			if !ok {
				return nil, false
			}
			lists[u] = list
		}
	}
	return lists, true
}
