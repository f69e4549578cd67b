package protocol

import (
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/fleet"
)

const (
	// RunnerLease is how long a job belongs to a runner that does not report.
	RunnerLease = 30 * time.Second
	// RunnerHold is how long the service holds a question for work at most.
	RunnerHold = 8 * time.Second
	// MaxChanges is how many bytes the local changes of a request may have, packed.
	MaxChanges = 256 << 20
	// MaxOutput is how many bytes of a request's output are kept.
	MaxOutput = 8 << 20
	// MaxPlan is how many bytes a plan that a runner reports may have.
	MaxPlan = 16 << 20
)

// Ask is the body of POST requests: what runners are to do.
type Ask struct {
	Pool   string `json:"pool"`
	Branch string `json:"branch,omitempty"`
	Commit string `json:"commit,omitempty"` // its full id; empty: the newest of the branch

	Tasks []string `json:"tasks"`
	Pick  string   `json:"pick,omitempty"`
	Since string   `json:"since,omitempty"`
	Modes []string `json:"modes,omitempty"`
	Sets  []string `json:"sets,omitempty"` // name=value
	Args  []string `json:"args,omitempty"` // after "--"

	Preview   bool `json:"preview,omitempty"`
	NoReuse   bool `json:"no_reuse,omitempty"`
	KeepGoing bool `json:"keep_going,omitempty"`

	Spread   int `json:"spread,omitempty"`   // how many runners; 0: one
	Priority int `json:"priority,omitempty"` // 1: before others, 2: usual, 3: after others

	Changes *LocalChanges `json:"changes,omitempty"`
}

// GuardedVar is the variable by which a runner tells the client that it carries out a protected job:
// what a request says must not decide what runs there.
const GuardedVar = "GRAYLOFT_PROTECTED_JOB"

// The priorities of requests.
const (
	PriorityHigh   = 1
	PriorityNormal = 2
	PriorityLow    = 3
)

// LocalChanges are what a checkout has that no remote has: commits, and the files of its
// work tree as one more commit. Blob is a pack of git (gitformat-pack(5)).
type LocalChanges struct {
	Blob  digest.Digest `json:"blob"`
	Bytes int64         `json:"bytes"`
	State string        `json:"state"` // the commit that has the work tree as its tree
	Tree  string        `json:"tree"`
	Files int           `json:"files"` // that differ from the commit
}

// Request is a run that was requested from runners.
type Request struct {
	ID      int64       `json:"id"`
	Name    string      `json:"name"` // who requested it
	Origin  string      `json:"origin"`
	At      time.Time   `json:"at"`
	State   fleet.State `json:"state"`
	Ask     Ask         `json:"ask"`
	Shelf   string      `json:"shelf"` // that its jobs write to
	Ahead   int         `json:"ahead"` // requests of the pool that wait before it
	Started *time.Time  `json:"started,omitempty"`
	Ended   *time.Time  `json:"ended,omitempty"`
	Jobs    []Job       `json:"jobs"`
	// CancelledBy is the name of the token that cancelled it.
	CancelledBy string `json:"cancelled_by,omitempty"`
}

// The origins of requests.
const (
	OriginPerson   = "person"
	OriginPush     = "push"
	OriginSchedule = "schedule"
)

// Job is the part of a request that one runner carries out.
type Job struct {
	ID      int64       `json:"id"`
	Member  int         `json:"member"`  // from 1
	Attempt int         `json:"attempt"` // 0: not started
	State   fleet.State `json:"state"`
	Runner  string      `json:"runner,omitempty"`
	Run     string      `json:"run,omitempty"` // its record
	Commit  string      `json:"commit,omitempty"`
	Exit    int         `json:"exit"`
	Message string      `json:"message,omitempty"`
	Plan    bool        `json:"plan"` // there is a plan to look at
	Started *time.Time  `json:"started,omitempty"`
	Ended   *time.Time  `json:"ended,omitempty"`
}

// RequestPage is the answer to GET requests, newest first.
type RequestPage struct {
	Requests []Request `json:"requests"`
	Next     int64     `json:"next,omitempty"` // before= of the next page; 0: there is none
}

// RequestMade is the answer to POST requests.
type RequestMade struct {
	ID    int64  `json:"id"`
	Shelf string `json:"shelf"`
}

// Output is a part of what the jobs of a request printed.
type Output struct {
	Lines []OutputLine `json:"lines"`
	Next  int          `json:"next"` // first= of the next part
	Ended bool         `json:"ended"`
	State fleet.State  `json:"state"`
}

// OutputLine is a line that a job printed.
type OutputLine struct {
	Member int    `json:"member"`
	Text   string `json:"text"`
}

// RunnerHello is the body of POST runners.
type RunnerHello struct {
	Name     string `json:"name"`
	Host     string `json:"host"`
	Pool     string `json:"pool"`
	Place    string `json:"place,omitempty"`
	Platform string `json:"platform"`
	Slots    int    `json:"slots"` // tasks that a job runs at a time
	Jobs     int    `json:"jobs"`  // jobs at a time
	// Replaces is the id of an earlier start of the same runner, whose jobs ended with it.
	Replaces int64 `json:"replaces,omitempty"`
}

// RunnerKnown is the answer to POST runners.
type RunnerKnown struct {
	ID        int64   `json:"id"`
	Lease     float64 `json:"lease_seconds"` // a job is lost if its runner does not report for so long
	Protected bool    `json:"protected"`     // the pool carries out protected jobs alone
}

// WorkQuestion is the body of POST runners/{id}/next.
type WorkQuestion struct {
	Free     int     `json:"free"` // jobs that it would take
	Jobs     []int64 `json:"jobs"` // jobs that it carries out
	Draining bool    `json:"draining"`
}

// WorkAnswer is the answer to POST runners/{id}/next.
type WorkAnswer struct {
	Job    *Work   `json:"job,omitempty"`
	Cancel []int64 `json:"cancel,omitempty"`
	Gone   []int64 `json:"gone,omitempty"` // jobs that are not this runner's any more
}

// Work is a job for a runner.
type Work struct {
	Job     int64    `json:"job"`
	Request int64    `json:"request"`
	Member  int      `json:"member"`
	Attempt int      `json:"attempt"`
	Ask     Ask      `json:"ask"`
	Shelf   string   `json:"shelf"`
	Refs    []string `json:"refs,omitempty"` // one of them must contain the commit
}

// JobStart is the body of POST jobs/{id}/start.
type JobStart struct {
	Attempt int    `json:"attempt"`
	Commit  string `json:"commit"`
	Ref     string `json:"ref,omitempty"` // the protected branch that contains the commit
}

// JobStarted is the answer to POST jobs/{id}/start.
type JobStarted struct {
	Token string `json:"token"` // for the job alone, until it ends
}

// JobLines is the body of POST jobs/{id}/output.
type JobLines struct {
	Attempt int      `json:"attempt"`
	First   int      `json:"first"` // number of the first line of this attempt, from 0
	Lines   []string `json:"lines"`
}

// JobEnd is the body of POST jobs/{id}/end. The states "lost" and "queued" give the job back:
// because something is wrong with the runner, or because the runner ends.
type JobEnd struct {
	Attempt int         `json:"attempt"`
	State   fleet.State `json:"state"`
	Exit    int         `json:"exit"`
	Message string      `json:"message,omitempty"`
	Plan    string      `json:"plan,omitempty"` // what plan --format json printed, for a preview
}

// Runner is a runner as it is listed.
type Runner struct {
	RunnerHello
	ID        int64     `json:"id"`
	State     string    `json:"state"` // idle, busy, draining, gone
	Protected bool      `json:"protected"`
	Seen      time.Time `json:"seen"`
	Since     time.Time `json:"since"`
	Busy      []BusyJob `json:"busy"`
	Done      int       `json:"done"` // jobs that ended there
}

// BusyJob is a job that a runner carries out.
type BusyJob struct {
	Job     int64 `json:"job"`
	Request int64 `json:"request"`
}

// Fleet is the answer to GET fleet: what is being worked on, and by whom.
type Fleet struct {
	Runners    []Runner         `json:"runners"`
	Pools      []Pool           `json:"pools"`
	Claims     []FlightClaim    `json:"claims"`
	Protection fleet.Protection `json:"protection"`
}

// Pool is a pool and its queue.
type Pool struct {
	Name      string `json:"name"`
	Protected bool   `json:"protected"`
	Runners   int    `json:"runners"` // that are there
	Free      int    `json:"free"`    // jobs that they could take now
	Queued    int    `json:"queued"`  // jobs
	Running   int    `json:"running"` // jobs
	// OldestSeconds is how long the first job in the queue has waited.
	OldestSeconds float64 `json:"oldest_seconds"`
}

// FlightClaim is a claim in flight.
type FlightClaim struct {
	HeldClaim
	Task  string `json:"task"`
	Shelf string `json:"shelf"`
}

// Protection is what is protected in a repository: the body of PUT protection.
type Protection = fleet.Protection

// Push is the body of POST push: a branch has a new commit.
type Push struct {
	Branch string `json:"branch"`
	Commit string `json:"commit"`
}

// PushAnswer is the answer to POST push.
type PushAnswer struct {
	Requests []int64 `json:"requests"` // that the push made, or that the same push had made
}

// Receiver is an address to which the ends of runs are announced.
type Receiver struct {
	ID      int64      `json:"id"`
	URL     string     `json:"url"`
	MadeBy  string     `json:"made_by"`
	MadeAt  time.Time  `json:"made_at"`
	Tried   *time.Time `json:"tried,omitempty"`
	Outcome string     `json:"outcome"` // of the last try; empty: none yet
}

// ReceiverList is the answer to GET receivers.
type ReceiverList struct {
	Receivers []Receiver `json:"receivers"`
}

// NewReceiver is the body of POST receivers.
type NewReceiver struct {
	URL string `json:"url"`
}

// MadeReceiver is the answer to POST receivers. The secret signs what is sent, and is
// shown this one time.
type MadeReceiver struct {
	ID     int64  `json:"id"`
	Secret string `json:"secret"`
}
