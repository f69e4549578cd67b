// Package protocol defines what the client and the service exchange under
// /v1/{repo}: types and limits, no behaviour. The OpenAPI document of the
// service describes the same, and tests check both against it.
package protocol

import (
	"encoding/json"
	"errors"
	"io"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/junit"
)

// Version is the version of the protocol, and the first segment of its paths.
const Version = "v1"

// Limits that both sides respect.
const (
	MaxLookup    = 5000      // tasks in one lookup
	MaxDigests   = 10000     // digests in a request for missing blobs or a pack
	MaxBlob      = 8 << 30   // bytes of one blob
	MaxPack      = 256 << 20 // bytes of one pack
	PackedBlob   = 2 << 20   // blobs up to this size travel in packs
	PieceBytes   = 4 << 20   // bytes of a larger blob that are transferred at a time
	MaxPieces    = 10000     // pieces of one blob
	MaxBody      = 16 << 20  // bytes of a JSON body
	MaxAnswer    = 32 << 20  // bytes of a JSON answer
	MaxPart      = 64 << 20  // bytes of a listing or a list of ingredients
	MaxEvents    = 1000      // events in a request
	MaxParts     = 100000    // tasks in a request for durations
	EarlyAnswers = 4         // entries per shelf for an early key
)

// Media types in addition to application/json.
const (
	TypeProblem = "application/problem+json" // RFC 9457
	TypePack    = "application/x-tar"        // POSIX tar, members named by digest
	TypeBlob    = "application/octet-stream"
)

// Blob is a digest with a size in bytes; -1 if it is unknown.
type Blob struct {
	Digest digest.Digest `json:"digest"`
	Size   int64         `json:"size"`
}

// OpenBlob is a blob that can be read from any position.
type OpenBlob interface {
	io.ReaderAt
	io.Closer
}

// ErrGone is wrapped by errors about a blob that is no longer available
// anywhere.
var ErrGone = errors.New("no longer in the cache")

// ErrFull is wrapped by errors about a service that has no room for an upload.
var ErrFull = errors.New("the shared cache has no room")

// ErrBusy is returned for a blob that another process is fetching.
var ErrBusy = errors.New("another process is fetching it")

// Pieces is a large blob that arrives in pieces.
type Pieces interface {
	// Missing returns the numbers of the pieces that have not arrived.
	Missing() []int
	// Put takes a whole piece. It may be called concurrently.
	Put(i int, data []byte) error
	// Keep stores the blob, if it matches its digest; if not, it starts from
	// nothing the next time.
	Keep() error
	Close()
}

// ErrDown is returned by a shared cache that does not answer; it has already
// warned.
var ErrDown = errors.New("the shared cache does not answer")

// Problem is an RFC 9457 problem document.
type Problem struct {
	Type     string          `json:"type"`
	Title    string          `json:"title"`
	Status   int             `json:"status"`
	Detail   string          `json:"detail,omitempty"`
	Instance string          `json:"instance,omitempty"` // names the request, in the service's log as well
	Missing  []digest.Digest `json:"missing,omitempty"`  // blobs that an entry names but the service does not have
}

// Maker is who made an output, where and when.
type Maker struct {
	Name  string    `json:"name"`
	Host  string    `json:"host"`
	Place string    `json:"place"`
	Run   string    `json:"run"`
	At    time.Time `json:"at"`
}

// Entry is what a cache keeps for a key.
type Entry struct {
	Key           digest.Digest `json:"key"`
	EarlyKey      digest.Digest `json:"early_key"`
	Task          string        `json:"task"`
	Listing       digest.Digest `json:"listing"`
	Log           digest.Digest `json:"log"`
	Ingredients   digest.Digest `json:"ingredients"`
	Reports       digest.Digest `json:"reports,omitzero"` // its test cases, as one JUnit XML document
	Seconds       float64       `json:"seconds"`          // duration of the task
	Bytes         int64         `json:"bytes"`            // total size of its outputs
	MadeBy        Maker         `json:"made_by"`
	CheckoutPaths []string      `json:"checkout_paths,omitempty"` // outputs that contain the path of the checkout they were made in
	Shelf         string        `json:"shelf,omitempty"`
	// Refs are the blobs that the ingredients refer to, so that they can be
	// compared later. The service keeps them as long as the entry.
	Refs []digest.Digest `json:"refs,omitempty"`
}

// Query asks about one task.
type Query struct {
	Task     string        `json:"task"`
	Key      digest.Digest `json:"key,omitzero"`
	EarlyKey digest.Digest `json:"early_key,omitzero"`
}

// Lookup is the body of POST entries/lookup.
type Lookup struct {
	Tasks []Query `json:"tasks"`
}

// LookupAnswer is the answer: every candidate, in the order of shelves.
type LookupAnswer struct {
	Entries []Entry `json:"entries"`
}

// EntryPage is the answer to GET entries: those of one task, newest first.
type EntryPage struct {
	Entries []Entry `json:"entries"`
	Next    string  `json:"next,omitempty"` // for ?before=
}

// LastGood is the answer to GET last-good: commits whose run on the trusted
// shelf passed, newest first.
type LastGood struct {
	Commits []GoodCommit `json:"commits"`
}

// GoodCommit is a commit with the run that passed.
type GoodCommit struct {
	Commit string    `json:"commit"`
	Branch string    `json:"branch"`
	Run    string    `json:"run"`
	At     time.Time `json:"at"`
}

// Filed is the answer to PUT entries/{key}.
type Filed struct {
	Created  bool          `json:"created"`
	Diverged bool          `json:"diverged"` // another listing is stored for this key
	Listing  digest.Digest `json:"listing"`  // the one that is stored
}

// Digests is the body of POST blobs/missing and of POST packs/fetch, and the
// answer to the former.
type Digests struct {
	Digests []digest.Digest `json:"digests"`
}

// PackResult is the result for one member of a pack.
type PackResult struct {
	Digest digest.Digest `json:"digest"`
	OK     bool          `json:"ok"`
	Error  string        `json:"error,omitempty"`
}

// PackAnswer is the answer to POST packs.
type PackAnswer struct {
	Results []PackResult `json:"results"`
}

// Assembly is POST blobs/{digest}/assembly: the pieces of a blob, in order, each
// of them a blob that the service has. The answer is a [PackResult], after
// spaces while the service works.
type Assembly struct {
	Size   int64           `json:"size"` // of the whole blob
	Pieces []digest.Digest `json:"pieces"`
}

// Self describes the token of the caller.
type Self struct {
	ID        int64      `json:"id"` // of the token; it stays when the secret is rotated
	Name      string     `json:"name"`
	Repo      string     `json:"repo"`
	WritesTo  string     `json:"writes_to"` // a shelf or a pattern; empty: none
	ReadsFrom []string   `json:"reads_from"`
	View      bool       `json:"view"`
	Manage    bool       `json:"manage"`
	Expires   *time.Time `json:"expires,omitempty"`
}

// SignedIn is the answer to POST session.
type SignedIn struct {
	Self
	PageToken string `json:"page_token"` // for the header X-Page-Token of requests that change something
}

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

// PartsQuestion asks for durations by which to divide tasks among runners:
// everybody who asks under the same digest gets the same answer.
type PartsQuestion struct {
	Tasks []string `json:"tasks"`
}

// PartsAnswer gives seconds by task, as far as they are known.
type PartsAnswer struct {
	Seconds map[string]float64 `json:"seconds"`
}

// Rotated is a token's new secret, and until when the previous one is valid.
type Rotated struct {
	Token    string    `json:"token"`
	OldUntil time.Time `json:"old_until"`
}
