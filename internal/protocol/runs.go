package protocol

import (
	"encoding/json"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/junit"
)

// Run is a run as its client announces it.
type Run struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Host      string    `json:"host"`
	Place     string    `json:"place"`
	Branch    string    `json:"branch"`
	Commit    string    `json:"commit"`
	Shelf     string    `json:"shelf"`
	Requested []string  `json:"requested"` // tasks or picks as the person named them
	NoReuse   bool      `json:"no_reuse"`
	Jobs      int       `json:"jobs"`
	Tasks     int       `json:"tasks"` // in the plan
	Started   time.Time `json:"started"`
	// Graph names the declarations of the repository, see [Graph].
	Graph digest.Digest `json:"graph,omitzero"`
	// Join names the run of several machines that this one is a part of.
	Join string `json:"join,omitempty"`
}

// Graph is the body of PUT graphs/{digest}: the declarations of a repository, of
// which projects, tasks and their relations follow. It is named by the digest of
// its JSON, see [Graph.Encode].
type Graph struct {
	Base  string     `json:"base"`  // the name of the repository, in case it declares none
	Files []DeclFile `json:"files"` // sorted by path
	Dirs  []string   `json:"dirs"`  // directories that the declarations name: templates; sorted
}

// Encode returns the graph as JSON, and its digest.
func (g Graph) Encode() ([]byte, digest.Digest) {
	text, err := json.Marshal(g)
	if err != nil {
		panic(err) // it consists of strings
	}
	return text, digest.Of(text)
}

// DeclFile is a file of declarations.
type DeclFile struct {
	Path string `json:"path"` // from the root
	Text string `json:"text"`
}

// RunKnown is the answer to POST runs.
type RunKnown struct {
	GraphKnown bool `json:"graph_known"` // the service has the graph that the run names
}

// Event is one event of a run. Exactly one of its parts is set.
type Event struct {
	Seq    int64       `json:"seq"` // from 1, without gaps, per run
	Start  *TaskStart  `json:"start,omitempty"`
	Task   *TaskRecord `json:"task,omitempty"`
	Tests  *TaskTests  `json:"tests,omitempty"`
	Finish *RunFinish  `json:"finish,omitempty"`
}

// TaskTests are test cases of a task that ran, of its reports. Several of them
// for one task add up.
type TaskTests struct {
	Task  string       `json:"task"`
	First int          `json:"first"` // number of the first case, from 0
	Cases []junit.Case `json:"cases"`
}

// TaskStart says that a task started to run.
type TaskStart struct {
	Task string  `json:"task"`
	At   float64 `json:"at"` // seconds since the run began
	Slot int     `json:"slot"`
}

// TaskRecord is the outcome of a task.
type TaskRecord struct {
	Task         string        `json:"task"`
	Project      string        `json:"project"`
	Outcome      string        `json:"outcome"`
	Reason       string        `json:"reason,omitempty"`
	Detail       []string      `json:"detail,omitempty"`
	Message      string        `json:"message,omitempty"` // for people: exit 1, or why the result was not cached
	At           float64       `json:"at"`                // seconds since the run began
	Seconds      float64       `json:"seconds"`
	Slot         int           `json:"slot"` // from 1; 0 if it took none
	Key          digest.Digest `json:"key"`
	Listing      digest.Digest `json:"listing"`
	Log          digest.Digest `json:"log"`
	Ingredients  digest.Digest `json:"ingredients,omitzero"`
	MadeBy       *Maker        `json:"made_by,omitempty"`
	SavedSeconds float64       `json:"saved_seconds"`
	RunSeconds   float64       `json:"run_seconds"`   // of its last attempt
	FetchSeconds float64       `json:"fetch_seconds"` // spent on transfers
	WaitSeconds  float64       `json:"wait_seconds"`  // for a slot or a lock
	HashSeconds  float64       `json:"hash_seconds"`  // reading inputs and keeping outputs
	BytesIn      int64         `json:"bytes_in"`
	BytesOut     int64         `json:"bytes_out"`
	Attempt      int           `json:"attempt"` // from 1; 0 if it did not run
	Picked       bool          `json:"picked"`
	// Compared is the run that its inputs were compared with, Changed what
	// differed: paths from the root, names or addresses, at most MaxChanged of
	// ChangedCount. SameOutputs tells whether its outputs equal those of that run.
	Compared     string   `json:"compared,omitempty"`
	Changed      []string `json:"changed,omitempty"`
	ChangedCount int      `json:"changed_count"`
	SameOutputs  *bool    `json:"same_outputs,omitempty"`
	Tests        int      `json:"tests"`                  // test cases of its reports
	TestsFailed  int      `json:"tests_failed"`           // of these
	Dependencies []string `json:"dependencies,omitempty"` // the tasks that it waited for, according to the run's graph
	Critical     bool     `json:"critical,omitempty"`     // on the critical path; computed by the service
}

// MaxChanged is how many changed inputs a record names.
const MaxChanged = 50

// RunFinish ends a run.
type RunFinish struct {
	OK           bool           `json:"ok"`
	Interrupted  bool           `json:"interrupted"`
	Seconds      float64        `json:"seconds"`
	SavedSeconds float64        `json:"saved_seconds"`
	CostSeconds  float64        `json:"cost_seconds"`
	BytesIn      int64          `json:"bytes_in"`
	BytesOut     int64          `json:"bytes_out"`
	Totals       map[string]int `json:"totals"`
	// Sent is the number of bytes that were uploaded for each task.
	Sent map[string]int64 `json:"sent,omitempty"`
}

// Events is the body of POST runs/{id}/events.
type Events struct {
	Events []Event `json:"events"`
}

// EventsAnswer says up to which number the service has all events.
type EventsAnswer struct {
	Through int64 `json:"through"`
}

// RunRow is a run as the service lists it.
type RunRow struct {
	Run
	Finished *time.Time `json:"finished"`
	RunFinish
	Running         bool    `json:"running"`
	Generated       bool    `json:"generated"`        // not a real run
	FetchSeconds    float64 `json:"fetch_seconds"`    // of all its tasks
	CriticalSeconds float64 `json:"critical_seconds"` // of its critical path
}

// RunPage is one page of GET runs.
type RunPage struct {
	Runs  []RunRow  `json:"runs"`
	Next  string    `json:"next,omitempty"` // for ?after=
	Total int       `json:"total"`          // that the filter selects
	Until time.Time `json:"until"`          // for ?until=, so that new runs do not move the pages
}

// Facets are the values by which runs can be filtered, the most frequent first.
type Facets struct {
	Places   []string `json:"places"`
	Branches []string `json:"branches"`
	People   []string `json:"people"`
	Shelves  []string `json:"shelves"`
}

// RunDetail is GET runs/{id}.
type RunDetail struct {
	RunRow
	Records []TaskRecord `json:"records"`
	Starts  []TaskStart  `json:"starts"` // tasks that are still running
	// Members are all parts of the run of several machines that this one is a part of, in
	// the order in which they started.
	Members []RunMember `json:"members,omitempty"`
}

// RunMember is a part of a run of several machines.
type RunMember struct {
	ID    string `json:"id"`
	Host  string `json:"host"`
	Place string `json:"place"`
}

// LogLine is one line of a log.
type LogLine struct {
	At   float64 `json:"at"` // seconds since the task began
	Text string  `json:"text"`
}

// Log is GET runs/{id}/log.
type Log struct {
	Task  string    `json:"task"`
	First int       `json:"first"` // number of the first of Lines, from 0
	Lines []LogLine `json:"lines"`
	Total int       `json:"total"`
}

// LogChunks is the body of POST runs/{id}/logs: what running tasks printed.
type LogChunks struct {
	Chunks []LogChunk `json:"chunks"`
}

// LogChunk are lines of a log that still grows.
type LogChunk struct {
	Task  string    `json:"task"`
	First int       `json:"first"` // number of the first of Lines, from 0
	Lines []LogLine `json:"lines"`
}

// LogAnswer says how many lines of each log the service has; -1: it takes no
// more of it.
type LogAnswer struct {
	Have map[string]int `json:"have"`
}

// Limits of a log that still grows. The whole log is stored once its task ends.
const (
	MaxChunkLines = 5000
	MaxChunks     = 200      // in a request
	MaxLineBytes  = 4096     // of one line; the rest is cut
	MaxGrowing    = 32 << 20 // bytes of all growing logs of a run
)

// Figures add up runs.
type Figures struct {
	Runs         int     `json:"runs"`
	Failed       int     `json:"failed"`
	Seconds      float64 `json:"seconds"`
	SavedSeconds float64 `json:"saved_seconds"`
	CostSeconds  float64 `json:"cost_seconds"`
	FetchSeconds float64 `json:"fetch_seconds"` // of transfers to these machines
	BytesIn      int64   `json:"bytes_in"`
	BytesOut     int64   `json:"bytes_out"`
	Reused       int64   `json:"reused"`   // tasks that were cached, restored or fetched
	Executed     int64   `json:"executed"` // tasks that ran or failed
}

// Add adds other figures.
func (f *Figures) Add(o Figures) {
	f.Runs, f.Failed, f.Seconds = f.Runs+o.Runs, f.Failed+o.Failed, f.Seconds+o.Seconds
	f.SavedSeconds, f.CostSeconds, f.FetchSeconds = f.SavedSeconds+o.SavedSeconds, f.CostSeconds+o.CostSeconds,
		f.FetchSeconds+o.FetchSeconds
	f.BytesIn, f.BytesOut = f.BytesIn+o.BytesIn, f.BytesOut+o.BytesOut
	f.Reused, f.Executed = f.Reused+o.Reused, f.Executed+o.Executed
}

// Balance is the answer to GET balance: what runs saved and what sharing cost,
// over time.
type Balance struct {
	Since           time.Time      `json:"since"`
	Until           time.Time      `json:"until"`
	IntervalSeconds float64        `json:"interval_seconds"`
	By              string         `json:"by"` // place, branch, person or shelf
	Total           Figures        `json:"total"`
	Groups          []GroupBalance `json:"groups"`
}

// GroupBalance is the balance of one place, branch, person or shelf.
type GroupBalance struct {
	Name   string         `json:"name"`
	Total  Figures        `json:"total"`
	Points []BalancePoint `json:"points"`
}

// BalancePoint is one interval in which there were runs.
type BalancePoint struct {
	At time.Time `json:"at"` // its middle
	Figures
}
