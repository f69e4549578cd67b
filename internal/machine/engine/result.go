package engine

import (
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/protocol"
)

// Result is the outcome of one task.
type Result struct {
	Task    *graph.Task
	Picked  bool
	Outcome decide.Outcome
	Reason  key.Reason
	Changes []key.Change // that belong to the reason
	Message string       // for people: how it failed, or why it was not cached
	Timing  Timing
	Digests Digests
	Sharing Sharing
	LogText []byte
	MadeBy  *protocol.Maker
	Drift   []drift.Finding // of a traced task
	Ran     *Execution      // nil: it did not run
}

// Execution says more about a task that ran in this run.
type Execution struct {
	Waited  time.Duration // between the decision that it runs and its start
	Hashing time.Duration // reading its inputs again and keeping its outputs
	Attempt int           // from 1
	Refused bool          // its result cannot be reused: its files changed, or its outputs could not be kept
	Cases   []junit.Case  // of its reports
	// Compared is the run of the result that its inputs were compared with; ""
	// if there was none. SameOutputs tells whether its outputs are equal.
	Compared    string
	SameOutputs bool
	// Evidence are the blobs, in the store, that say what a failed task was made
	// from. Those of a result that is shared go with it.
	Evidence []digest.Digest
}

// Timing says when and how long a task took.
type Timing struct {
	At   time.Duration // since the start of the run
	Took time.Duration // in this run
	Made float64       // seconds that its execution took, here or elsewhere
	Slot int           // from 1; 0: none
}

// Digests refer to what is stored about a result.
type Digests struct{ Key, Listing, Log, Ingredients digest.Digest }

// Sharing is what sharing cost for one task.
type Sharing struct {
	Cost    time.Duration
	BytesIn int64
}

// Saved returns the seconds that reuse saved; it may be negative.
func (r *Result) Saved() float64 {
	if !r.Outcome.IsSaving() {
		return 0
	}
	return r.Timing.Made - r.Timing.Took.Seconds()
}

// Detail returns what belongs to the reason, in words.
func (r *Result) Detail() []string {
	var out []string
	for _, c := range r.Changes {
		if c.What != "" {
			out = append(out, c.What)
		}
	}
	return out
}

// Summary is the outcome of a run.
type Summary struct {
	Results     []*Result // in graph order
	Took        time.Duration
	Interrupted bool
	Fetching    time.Duration // in which anything was being downloaded
	Uploading   time.Duration // in which anything was being uploaded
	BytesOut    int64
	Sent        map[string]int64 // bytes that were uploaded, by task
}

// Saved returns the seconds of work that did not have to be done here: the
// durations of the tasks when they were made. The cost of sharing is not
// subtracted.
func (s *Summary) Saved() float64 {
	sum := 0.0
	for _, r := range s.Results {
		if r.Outcome.IsSaving() {
			sum += r.Timing.Made
		}
	}
	return sum
}

// OK tells whether every task has a valid result.
func (s *Summary) OK() bool {
	if s.Interrupted {
		return false
	}
	for _, r := range s.Results {
		if !r.Outcome.IsGood() {
			return false
		}
	}
	return true
}

// Totals counts outcomes; each outcome is included.
func (s *Summary) Totals() map[string]int {
	out := map[string]int{}
	for _, o := range decide.Outcomes {
		out[string(o)] = 0
	}
	for _, r := range s.Results {
		out[string(r.Outcome)]++
	}
	return out
}
