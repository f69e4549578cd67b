package decide

import (
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
)

// Facts are what is known about one task.
type Facts struct {
	Rules   Rules
	Key     digest.Digest
	Pending []string // addresses of dependencies whose outputs are not certain yet; only in a plan
	Last    *Last    // nil: no result in this checkout
	Disk    Answer   // whether the disk holds the outputs of Last
	Local   Offers   // of this machine's cache
	Shared  Offers   // of the shared cache
	Changes Changes  // against Last
	Line    Line     // the connection to the service
}

// Rules are what the declaration and the options say.
type Rules struct {
	NoReuse    bool   // --no-reuse was given
	ReuseNever bool   // reuse = "never"
	NoWrites   string // address of the task without declared writes that makes this one run; empty: none
	Unkept     string // address of a dependency whose outputs could not be kept; empty: none
	Evicted    bool   // its blobs turned out to be missing in this run
	Wanted     bool   // its outputs belong on the disk even if nobody reads them
	MayCompare bool   // running may be chosen because it is faster
	CanFetch   bool   // there is a shared cache to fetch blobs from
}

// Last is the last result in this checkout.
type Last struct {
	Key     digest.Digest
	Failed  bool
	Seconds float64 // of the last successful execution here; 0: unknown
	Unkept  string  // why its outputs could not be kept; empty: they were
}

// Answer is the answer to a yes-or-no question that may not have been asked.
type Answer int8

// The answers.
const (
	Unasked Answer = iota
	No
	Yes
)

// Say turns a boolean into an answer.
func Say(yes bool) Answer {
	if yes {
		return Yes
	}
	return No
}

// Offers are the entries that one cache has for the key.
type Offers struct {
	Asked bool
	List  []Offer
}

// Offer is an entry.
type Offer struct {
	State   OfferState
	Empty   bool  // it has no outputs
	OnDisk  bool  // the disk holds exactly its outputs
	Missing int64 // bytes of its outputs that are not on this machine
}

// OfferState says what is known of an offer.
type OfferState int8

// The states of an offer.
const (
	Unexamined OfferState = iota
	Usable
	Unusable // its listing is refused, or the service does not answer
	Gone     // its blobs are no longer available
)

// Changes are the differences between the current ingredients and those of the
// last result.
type Changes struct {
	Asked bool
	Known bool // the last ingredients were available
	List  []key.Change
}

// Question is a fact that [Next] needs.
type Question int8

// The questions.
const (
	Nothing    Question = iota
	AskDisk             // whether the disk holds the last listing
	AskLocal            // the offers of this machine's cache
	AskShared           // the offers of the shared cache
	AskOffer            // the state of the offer in Step.Offer
	AskChanges          // the changes against the last result
)

// Source names an offer.
type Source struct {
	Shared bool
	Index  int
}

// Step is what [Next] returns: a question, or a decision.
type Step struct {
	Ask      Question
	Offer    Source // of AskOffer
	Decision Decision
}

// Decision is what happens to a task.
type Decision struct {
	Outcome Outcome // Current, Cached, Restored, Fetched, Ran or MayRun
	Reason  key.Reason
	Changes []key.Change
	On      []string // with MayRun: the dependencies that decide
	Offer   *Source  // the entry that is used; with [key.Faster], the one that is not fetched
	Place   bool     // the outputs of the entry go to the disk
	Tidy    bool     // older outputs on the disk are replaced or cleared
	Choice  Choice   // with [key.Faster]
}

// Next returns the next question about a task, or the decision.
func Next(f *Facts) Step {
	if reason, changes := f.Rules.mustRun(); reason != "" {
		return run(reason, changes)
	}
	if len(f.Pending) > 0 {
		return pending(f)
	}
	if f.Last.isResultOf(f.Key) {
		switch f.Disk {
		case Unasked:
			return Step{Ask: AskDisk}
		case Yes:
			return Step{Decision: Decision{Outcome: Current}}
		}
	}
	if step, done := consider(f, f.Local, false); done {
		return step
	}
	if step, done := consider(f, f.Shared, true); done {
		return step
	}
	if !f.Changes.Asked && f.Last != nil && f.Last.Key != f.Key {
		return Step{Ask: AskChanges}
	}
	return run(reasonToRun(f))
}

// mustRun returns why a task runs whatever exists; "" if nothing forces it.
func (r Rules) mustRun() (key.Reason, []key.Change) {
	switch {
	case r.NoReuse:
		return key.NoReuse, nil
	case r.ReuseNever:
		return key.ReuseNever, nil
	case r.NoWrites != "":
		return key.NoWrites, []key.Change{{Reason: key.NoWrites, What: r.NoWrites}}
	case r.Evicted:
		return key.Evicted, nil
	case r.Unkept != "":
		return key.Unkept, []key.Change{{Reason: key.Unkept, What: r.Unkept}}
	}
	return "", nil
}

func run(reason key.Reason, changes []key.Change) Step {
	return Step{Decision: Decision{Outcome: Ran, Reason: reason, Changes: changes}}
}

func (l *Last) isResultOf(k digest.Digest) bool { return l != nil && !l.Failed && l.Key == k }

// pending decides about a task whose key is not certain: it gives the reason
// why it would run even if all dependencies gave the same outputs.
func pending(f *Facts) Step {
	d := Decision{Outcome: MayRun, On: f.Pending}
	switch {
	case f.Last == nil:
		d.Reason = key.New
	case !f.Changes.Asked:
		return Step{Ask: AskChanges}
	default:
		d.Reason, d.Changes = key.First(ownChanges(f))
	}
	return Step{Decision: d}
}

// ownChanges leaves out the listings of dependencies that are not certain.
func ownChanges(f *Facts) []key.Change {
	on := map[string]bool{}
	for _, addr := range f.Pending {
		on[addr] = true
	}
	var out []key.Change
	for _, c := range f.Changes.List {
		if c.Reason != key.Upstream || !on[c.What] {
			out = append(out, c)
		}
	}
	return out
}

// consider goes through the offers of one cache.
func consider(f *Facts, offers Offers, shared bool) (Step, bool) {
	if !offers.Asked {
		if shared {
			return Step{Ask: AskShared}, true
		}
		return Step{Ask: AskLocal}, true
	}
	for i, o := range offers.List {
		from := Source{shared, i}
		switch f.state(o) {
		case Unexamined:
			return Step{Ask: AskOffer, Offer: from}, true
		case Usable:
			return Step{Decision: use(f, o, from)}, true
		}
	}
	return Step{}, false
}

// state returns the state of an offer: one whose missing blobs are required but
// cannot be fetched is gone.
func (f *Facts) state(o Offer) OfferState {
	if o.State == Usable && f.Rules.Wanted && !o.OnDisk && o.Missing > 0 && !f.Rules.CanFetch {
		return Gone
	}
	return o.State
}

// use decides how an entry is used.
func use(f *Facts, o Offer, from Source) Decision {
	d := Decision{Outcome: Cached, Offer: &from}
	switch {
	case o.OnDisk && !o.Empty && !from.Shared:
		d.Outcome = Current
	case o.OnDisk:
	case !f.Rules.Wanted:
		d.Tidy = true
	default:
		if from.Shared && f.Rules.MayCompare && f.Last != nil {
			if c := RunOrFetch(f.Last.Seconds, o.Missing, f.Line); c.Run {
				return Decision{Outcome: Ran, Reason: key.Faster, Offer: &from, Choice: c}
			}
		}
		d.Outcome, d.Place = Restored, true
		if from.Shared || o.Missing > 0 {
			d.Outcome = Fetched
		}
	}
	return d
}

// reasonToRun returns why a task runs for which nothing can be reused.
func reasonToRun(f *Facts) (key.Reason, []key.Change) {
	reason, changes := compareWithLast(f)
	if (reason == key.New || reason == key.Outputs) && f.isEvicted() {
		return key.Evicted, nil
	}
	return reason, changes
}

func (f *Facts) isEvicted() bool {
	for _, list := range [][]Offer{f.Local.List, f.Shared.List} {
		for _, o := range list {
			if f.state(o) == Gone {
				return true
			}
		}
	}
	return false
}

func compareWithLast(f *Facts) (key.Reason, []key.Change) {
	switch {
	case f.Last == nil:
		return key.New, nil
	case f.Last.Unkept != "" && !f.Last.Failed && len(f.Changes.List) == 0:
		return key.Unkept, []key.Change{{Reason: key.Unkept, What: f.Last.Unkept}}
	case f.Last.Key == f.Key && f.Last.Failed:
		return key.FailedBefore, nil
	case f.Last.Key == f.Key:
		return key.Outputs, nil
	case !f.Changes.Known:
		return key.New, nil
	}
	if reason, of := key.First(f.Changes.List); reason != "" {
		return reason, of
	}
	// Equal ingredients without a stored result: the files changed while the
	// task ran.
	return key.Files, []key.Change{{Reason: key.Files, How: "changed"}}
}
