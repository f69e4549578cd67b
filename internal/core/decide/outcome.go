// Package decide decides what happens to a task: whether an existing result is
// reused, which one, and what has to be transferred for it, or why the task
// runs. It takes facts (the declaration, the options, the last record, what is
// on the disk, what the caches offer, measurements), and returns a decision.
//
// Facts cost time to collect, so [Next] asks for one at a time. Plan and run
// collect them in the same way and follow the same decisions. The package looks
// at nothing itself.
package decide

import "grayloft.example/grayloft/internal/core/key"

// Outcome is the outcome of a task.
type Outcome string

// The outcomes of a task in a run, and MayRun, which only a plan has.
const (
	Current    Outcome = "current"
	Cached     Outcome = "cached"
	Restored   Outcome = "restored"
	Fetched    Outcome = "fetched"
	Ran        Outcome = "ran"
	Failed     Outcome = "failed"
	Blocked    Outcome = "blocked"
	Stopped    Outcome = "stopped"
	NotStarted Outcome = "not-started"
	MayRun     Outcome = "may-run" // it depends on the result of dependencies
)

// Outcomes are the outcomes of a run, in the order in which they are shown.
var Outcomes = []Outcome{Current, Cached, Restored, Fetched, Ran, Failed, Blocked, Stopped, NotStarted}

// IsReused tells whether an existing result was used.
func (o Outcome) IsReused() bool {
	return o == Current || o == Cached || o == Restored || o == Fetched
}

// IsGood tells whether the task has a valid result.
func (o Outcome) IsGood() bool { return o.IsReused() || o == Ran }

// IsSaving tells whether reusing the result saved work that somebody else, or
// an earlier state of the files, had needed.
func (o Outcome) IsSaving() bool { return o == Cached || o == Restored || o == Fetched }

// IsWork tells whether the outcome took work: running, or a transfer.
func (o Outcome) IsWork() bool { return o == Ran || o == Failed || o == Fetched || o == Restored }

// Fetch says which outputs are transferred from a cache.
type Fetch string

// The values of --fetch.
const (
	FetchNeeded Fetch = "needed" // outputs that were requested, and those that a task that runs will read
	FetchAll    Fetch = "all"    // every output of the plan
	FetchNone   Fetch = "none"   // only those that a task that runs will read
)

// Delivered returns the outcome of a reused task after its outputs were put on
// the disk for a dependent, and fetching them took that many bytes.
func Delivered(o Outcome, bytes int64) Outcome {
	switch {
	case o != Cached:
		return o
	case bytes > 0:
		return Fetched
	}
	return Restored
}

// Deliverable predicts [Delivered] for a plan: missing bytes would have to be
// fetched, which is possible or not.
func Deliverable(o Outcome, missing int64, canFetch bool) (Outcome, key.Reason) {
	if o == Cached && missing > 0 && !canFetch {
		return Ran, key.Evicted
	}
	return Delivered(o, missing), ""
}
