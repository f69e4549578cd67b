// Package protocol defines what the client and the service exchange under
// /v1/{repo}: types and limits, no behaviour. The OpenAPI document of the
// service describes the same, and tests check both against it.
package protocol

import (
	"errors"
	"io"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
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
	TypeProblem = "application/problem+json"            // RFC 9457
	TypePack    = "application/x-tar"                   // POSIX tar, members named by digest
	TypeFrames  = "application/x-tar; frames=" + Joined // the same with Content-Encoding zstd, each frame with whole members
	TypeBlob    = "application/octet-stream"
)

// Joined says in a media type that a frame may contain several members.
const Joined = "several"

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
	// Again says that the task was executed although there was a result: another listing that its
	// shelf has for the key is withdrawn. It is sent as ?again=true.
	Again bool `json:"again,omitempty"`
}

// Withdrawal is the body of POST entries/{key}/withdraw: a listing is never offered or stored under
// the key again.
type Withdrawal struct {
	Listing digest.Digest `json:"listing"`
	Shelf   string        `json:"shelf,omitempty"` // empty: the one that the token writes to
}

// Withdrawn is the answer to it.
type Withdrawn struct {
	Shelf   string `json:"shelf"`
	Removed bool   `json:"removed"` // the shelf had this result
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

// Failed is the answer to GET failed: the tasks whose last result on a branch
// failed, in runs of the shelves that the token reads, or its own.
type Failed struct {
	Tasks []string `json:"tasks"`
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
	Request   bool       `json:"request"` // runs from runners
	Serves    []string   `json:"serves"`  // pools, as a runner
	Expires   *time.Time `json:"expires,omitempty"`
	// Generated tells a session that the repository's records are not of real runs.
	Generated bool `json:"generated,omitempty"`
}

// SignedIn is the answer to POST session.
type SignedIn struct {
	Self
	PageToken string `json:"page_token"` // for the header X-Page-Token of requests that change something
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
