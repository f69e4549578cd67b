// Package advice finds what is worth changing in how a repository declares and
// shares its tasks. It takes rollups of what happened and returns findings, each with
// its evidence and the line to change. It reads nothing itself.
package advice

import (
	"cmp"
	"slices"
)

// Kind says what a finding is about.
type Kind string

// The kinds of findings, in the order in which they are listed.
const (
	Flaky            Kind = "flaky"
	NotReproducible  Kind = "not-reproducible"
	NotWorthSharing  Kind = "not-worth-sharing"
	RerunsForNothing Kind = "reruns-for-nothing"
	NeverShared      Kind = "never-shared"
	PlacesDiffer     Kind = "places-differ"
	LongPole         Kind = "long-pole"
)

var order = []Kind{Flaky, NotReproducible, NotWorthSharing, RerunsForNothing, NeverShared, PlacesDiffer, LongPole}

// Legend explains each kind in one line.
var Legend = map[Kind]string{
	Flaky:            "it failed and passed with the same inputs",
	NotReproducible:  "it gave different outputs for the same inputs",
	NotWorthSharing:  "fetching its outputs takes longer than running it",
	RerunsForNothing: "a file makes it run again, but its outputs stay the same",
	NeverShared:      "the same work is done again, because its declaration does not let it be shared",
	PlacesDiffer:     "results are not reused between places, because one ingredient differs",
	LongPole:         "most runs wait for it",
}

// Finding is one piece of advice.
type Finding struct {
	Kind     Kind     `json:"kind"`
	Task     string   `json:"task"`
	Place    string   `json:"place,omitempty"`
	Says     string   `json:"says"`     // one sentence
	Evidence []string `json:"evidence"` // sentences with figures
	Runs     []string `json:"runs"`     // ids of runs that show it
	Tests    []string `json:"tests,omitempty"`
	Change   string   `json:"change"` // what to do
	At       string   `json:"at"`     // file:line of the declaration; empty if it is not known
	// SecondsPerWeek is about how much time the finding costs; 0 if that is not
	// known.
	SecondsPerWeek float64 `json:"seconds_per_week"`
}

// Thresholds say from when something is worth mentioning.
type Thresholds struct {
	Samples     int     // of running, and of fetching, at one place
	SlowerBy    float64 // seconds by which the median of fetching exceeds that of running
	Reruns      int     // that one path caused
	SameOutputs float64 // the part of these reruns that changed nothing
	OnPath      float64 // the part of all runs with the task on their critical path
	PathShare   float64 // the part of the time of these runs that it took
	PathRuns    int     // runs that worked at all
	Repeats     float64 // seconds a week of work that was done again
	Misses      int     // between two places, for one ingredient
}

// Defaults are the thresholds that are used if nobody says otherwise.
var Defaults = Thresholds{
	Samples: 5, SlowerBy: 1, Reruns: 10, SameOutputs: 0.9, OnPath: 0.5, PathShare: 0.2, PathRuns: 10, Repeats: 60, Misses: 3,
}

// Input is what happened in a stretch of time.
type Input struct {
	Weeks      float64 // how long the stretch is; at least 1
	WorkedRuns int     // runs with a critical path
	Tasks      []Task
}

// Task is what happened to one task, and how it is declared.
type Task struct {
	Name     string
	Declared Declared
	Places   []Place
	Causes   []Cause
	Unstable []Unstable
	Misses   []Miss
	// Repeated is how many seconds of work were done again for a key that
	// somebody had executed in the same week.
	Repeated     float64
	CriticalRuns int     // runs with it on their critical path
	CriticalPart float64 // sum, over these runs, of the part of their time that it took
	CriticalTook float64 // mean seconds that it took in these runs
}

// Declared is what matters here of a task's declaration. At is empty if the task
// is not declared any more.
type Declared struct {
	At        string // file:line of the task
	Reuse     string // auto, always, local or never
	ReuseAt   string // file:line of its reuse, if it is given
	ReadsAt   string // file:line of its reads, if they are given
	HasProbes bool
	HasWrites bool
	// WritesNothing tells that it has no outputs by declaration: they are always
	// the same, and say nothing about a change.
	WritesNothing bool
}

// Place is how long a task took at one place.
type Place struct {
	Name       string
	Run, Fetch Samples
	FetchBytes int64   // of all fetches
	FetchTook  float64 // seconds of all fetches
}

// Cause is a path whose change caused reruns. A directory ends with a slash.
type Cause struct {
	Path        string
	Reruns      int     // whose outputs could be compared with those before
	SameOutputs int     // reruns that gave the same outputs as before
	Seconds     float64 // of all these reruns
}

// Unstable is a key whose executions did not agree.
type Unstable struct {
	Passed, Failed, Listings int
	PassedRun, FailedRun     string
	OtherRun                 string // with other outputs than PassedRun
	Tests                    []string
}

// Miss counts executions at one place for which another had a result that
// differed in one ingredient only.
type Miss struct {
	Place, Other string
	Kind, Name   string // probe, environment or platform, and which
	N            int
	Seconds      float64
	Run          string // the newest
}

// Find returns the findings, the most serious kinds first, and within a kind
// those that cost most.
func Find(in Input, t Thresholds) []Finding {
	in.Weeks = max(in.Weeks, 1)
	out := []Finding{}
	for _, task := range in.Tasks {
		if task.Declared.At == "" {
			continue // nobody can change it
		}
		f := finder{in, t, task}
		for _, find := range []func() []Finding{
			f.flaky, f.notReproducible, f.notWorthSharing, f.rerunsForNothing, f.neverShared, f.placesDiffer, f.longPole,
		} {
			out = append(out, find()...)
		}
	}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(slices.Index(order, a.Kind), slices.Index(order, b.Kind)),
			cmp.Compare(b.SecondsPerWeek, a.SecondsPerWeek), cmp.Compare(a.Task, b.Task))
	})
	return out
}

// finder finds what there is to say about one task.
type finder struct {
	in   Input
	t    Thresholds
	task Task
}

func (f finder) finding(k Kind, says string) Finding {
	return Finding{Kind: k, Task: f.task.Name, Says: says, At: f.task.Declared.At, Evidence: []string{}, Runs: []string{}}
}
