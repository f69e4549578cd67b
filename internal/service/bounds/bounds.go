// Package bounds checks what clients send before anything is done with it: every
// text, number and list has a bound, and no text contains what the database or a
// terminal cannot take. It knows the protocol's types and nothing else.
package bounds

import (
	"fmt"
	"io/fs"
	"math"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/protocol"
)

// Limits of what a client may send.
const (
	MaxName    = 256        // bytes of a name: of a person, host, place, branch, task
	MaxText    = 4096       // bytes of a sentence
	MaxList    = 1000       // texts in a list
	MaxRefs    = 100_000    // blobs that ingredients refer to
	MaxSeconds = 30 * 86400 // of one task or run
	MaxCount   = 1_000_000  // tasks, jobs, slots
	MaxBytes   = 1 << 50    // of one run
)

// Error names a field with a value that is not accepted.
type Error struct{ Field, Why string }

func (e Error) Error() string { return e.Field + " " + e.Why }

// checker collects the first error.
type checker struct{ err error }

func (c *checker) refuse(field, format string, args ...any) {
	if c.err == nil {
		c.err = Error{field, fmt.Sprintf(format, args...)}
	}
}

func (c *checker) text(field, s string, most int) {
	switch {
	case len(s) > most:
		c.refuse(field, "has %d bytes; at most %d are allowed", len(s), most)
	case strings.ContainsRune(s, 0):
		c.refuse(field, "must not contain a NUL character")
	case !utf8.ValidString(s):
		c.refuse(field, "must be UTF-8")
	}
}

func (c *checker) texts(field string, list []string, most int) {
	if len(list) > most {
		c.refuse(field, "has %d elements; at most %d are allowed", len(list), most)
		return
	}
	for _, s := range list {
		c.text(field, s, MaxText)
	}
}

func (c *checker) number(field string, n, least, most float64) {
	if math.IsNaN(n) || n < least || n > most {
		c.refuse(field, "must be a number from %.0f to %.0f", least, most)
	}
}

func (c *checker) time(field string, at time.Time) {
	if at.Year() < 2000 || at.Year() > 2200 {
		c.refuse(field, "must be a time between the years 2000 and 2200")
	}
}

func (c *checker) maker(field string, m protocol.Maker) {
	c.text(field+".name", m.Name, MaxName)
	c.text(field+".host", m.Host, MaxName)
	c.text(field+".place", m.Place, MaxName)
	c.text(field+".run", m.Run, MaxName)
	c.time(field+".at", m.At)
}

func (c *checker) required(field string, d digest.Digest) {
	if d.IsZero() {
		c.refuse(field, "is required")
	}
}

// Text checks a single text, such as a parameter of a query.
func Text(field, s string) error {
	var c checker
	c.text(field, s, MaxText)
	return c.err
}

// Claim checks a claim.
func Claim(in protocol.Claim) error {
	var c checker
	c.required("key", in.Key)
	c.text("shelf", in.Shelf, MaxName)
	c.text("run", in.Run, MaxName)
	c.text("task", in.Task, MaxText)
	c.text("host", in.Host, MaxName)
	c.text("place", in.Place, MaxName)
	c.number("seconds", in.Seconds, 0, MaxSeconds)
	for field, s := range map[string]string{"shelf": in.Shelf, "run": in.Run, "task": in.Task} {
		if s == "" {
			c.refuse(field, "is required")
		}
	}
	return c.err
}

// Entry checks an entry that a client wants to file. The size of its outputs is
// not checked: the service computes it from the listing.
func Entry(e protocol.Entry) error {
	var c checker
	c.required("key", e.Key)
	c.required("listing", e.Listing)
	c.required("ingredients", e.Ingredients)
	c.text("task", e.Task, MaxText)
	if e.Task == "" {
		c.refuse("task", "is required")
	}
	c.number("seconds", e.Seconds, 0, MaxSeconds)
	c.number("bytes", float64(e.Bytes), 0, MaxBytes)
	c.maker("made_by", e.MadeBy)
	c.texts("checkout_paths", e.CheckoutPaths, MaxRefs)
	if len(e.Refs) > MaxRefs {
		c.refuse("refs", "has %d elements; at most %d are allowed", len(e.Refs), MaxRefs)
	}
	for _, d := range e.Refs {
		c.required("refs", d)
	}
	return c.err
}

var runID = regexp.MustCompile(`^[0-9a-z-]{8,64}$`)

// Run checks a run that a client announces.
func Run(r protocol.Run) error {
	var c checker
	if !runID.MatchString(r.ID) {
		c.refuse("id", "must have 8 to 64 lower-case letters, digits and hyphens")
	}
	c.text("name", r.Name, MaxName)
	c.text("host", r.Host, MaxName)
	c.text("place", r.Place, MaxName)
	c.text("branch", r.Branch, MaxText)
	c.text("commit", r.Commit, MaxName)
	c.text("shelf", r.Shelf, MaxName)
	c.text("join", r.Join, MaxName)
	c.texts("requested", r.Requested, MaxList)
	c.number("jobs", float64(r.Jobs), 0, MaxCount)
	c.number("tasks", float64(r.Tasks), 0, MaxCount)
	c.time("started", r.Started)
	return c.err
}

// Event checks one event of a run.
func Event(e protocol.Event) error {
	var c checker
	c.number("seq", float64(e.Seq), 1, 1e9)
	parts := 0
	if e.Start != nil {
		parts++
		c.text("start.task", e.Start.Task, MaxText)
		c.number("start.at", e.Start.At, 0, MaxSeconds)
		c.number("start.slot", float64(e.Start.Slot), 0, MaxCount)
	}
	if e.Task != nil {
		parts++
		c.record(*e.Task)
	}
	if e.Tests != nil {
		parts++
		c.tests(*e.Tests)
	}
	if e.Finish != nil {
		parts++
		c.finish(*e.Finish)
	}
	if parts != 1 {
		c.refuse("event", "must have exactly one of start, task, tests and finish")
	}
	return c.err
}

// LogChunks checks lines of logs that still grow.
func LogChunks(in protocol.LogChunks) error {
	var c checker
	if len(in.Chunks) > protocol.MaxChunks {
		c.refuse("chunks", "has %d elements; at most %d are allowed", len(in.Chunks), protocol.MaxChunks)
	}
	for _, x := range in.Chunks {
		c.text("chunks.task", x.Task, MaxText)
		c.number("chunks.first", float64(x.First), 0, 1e9)
		if len(x.Lines) > protocol.MaxChunkLines {
			c.refuse("chunks.lines", "has %d elements; at most %d are allowed", len(x.Lines), protocol.MaxChunkLines)
			break
		}
		for _, l := range x.Lines {
			c.text("chunks.lines.text", l.Text, protocol.MaxLineBytes)
			c.number("chunks.lines.at", l.At, 0, MaxSeconds)
		}
	}
	return c.err
}

func (c *checker) record(r protocol.TaskRecord) {
	c.text("task.task", r.Task, MaxText)
	c.text("task.project", r.Project, MaxText)
	c.outcome("task.outcome", r.Outcome)
	c.text("task.reason", r.Reason, MaxName)
	c.texts("task.detail", r.Detail, MaxList)
	c.text("task.message", r.Message, MaxMessage)
	c.texts("task.dependencies", r.Dependencies, MaxRefs)
	c.number("task.at", r.At, 0, MaxSeconds)
	c.number("task.seconds", r.Seconds, 0, MaxSeconds)
	c.number("task.slot", float64(r.Slot), 0, MaxCount)
	c.number("task.saved_seconds", r.SavedSeconds, -MaxSeconds, MaxSeconds)
	for name, n := range map[string]float64{
		"run": r.RunSeconds, "fetch": r.FetchSeconds, "wait": r.WaitSeconds, "hash": r.HashSeconds,
	} {
		c.number("task."+name+"_seconds", n, 0, MaxSeconds)
	}
	c.number("task.bytes_in", float64(r.BytesIn), 0, MaxBytes)
	c.number("task.bytes_out", float64(r.BytesOut), 0, MaxBytes)
	c.number("task.attempt", float64(r.Attempt), 0, MaxCount)
	c.text("task.compared", r.Compared, MaxName)
	if len(r.Changed) > protocol.MaxChanged {
		c.refuse("task.changed", "has %d elements; at most %d are allowed", len(r.Changed), protocol.MaxChanged)
	}
	c.texts("task.changed", r.Changed, MaxList)
	for name, n := range map[string]int{"changed_count": r.ChangedCount, "tests": r.Tests, "tests_failed": r.TestsFailed} {
		c.number("task."+name, float64(n), 0, MaxCount)
	}
	if r.MadeBy != nil {
		c.maker("task.made_by", *r.MadeBy)
	}
}

func (c *checker) tests(t protocol.TaskTests) {
	c.text("tests.task", t.Task, MaxText)
	c.number("tests.first", float64(t.First), 0, junit.MaxCases)
	if len(t.Cases) > MaxList {
		c.refuse("tests.cases", "has %d elements; at most %d are allowed", len(t.Cases), MaxList)
		return
	}
	for _, x := range t.Cases {
		c.text("tests.name", x.Name, MaxText)
		c.text("tests.message", x.Message, MaxText)
		c.number("tests.seconds", x.Seconds, 0, MaxSeconds)
		if x.Result != junit.Passed && x.Result != junit.Failed && x.Result != junit.Skipped {
			c.refuse("tests.result", "%.80q is not a result", x.Result)
		}
	}
}

// MaxFiles is how many files of declarations a repository may have, and
// MaxPath how many bytes the path of one.
const (
	MaxFiles = 20_000
	MaxPath  = 1000
)

// Graph checks the declarations that a client sends; whether they are valid is
// not checked.
func Graph(g protocol.Graph) error {
	var c checker
	c.text("base", g.Base, MaxName)
	if len(g.Files) > MaxFiles {
		c.refuse("files", "has %d elements; at most %d are allowed", len(g.Files), MaxFiles)
	}
	if len(g.Dirs) > MaxList {
		c.refuse("dirs", "has %d elements; at most %d are allowed", len(g.Dirs), MaxList)
	}
	for _, d := range g.Dirs {
		c.text("dirs", d, MaxPath)
		if !fs.ValidPath(d) {
			c.refuse("dirs", "%.80q is not a path from the root", d)
		}
	}
	for _, f := range g.Files {
		c.text("files.path", f.Path, MaxPath)
		c.text("files.text", f.Text, protocol.MaxBody)
		if !fs.ValidPath(f.Path) || f.Path == "." {
			c.refuse("files.path", "%.80q is not a path from the root", f.Path)
		}
	}
	return c.err
}

// MaxMessage is how long, in bytes, a message of a task may be.
const MaxMessage = 64 << 10

func (c *checker) finish(f protocol.RunFinish) {
	c.number("finish.seconds", f.Seconds, 0, MaxSeconds)
	c.number("finish.saved_seconds", f.SavedSeconds, -MaxSeconds*MaxCount, MaxSeconds*MaxCount)
	c.number("finish.cost_seconds", f.CostSeconds, 0, 2*MaxSeconds)
	c.number("finish.bytes_in", float64(f.BytesIn), 0, MaxBytes)
	c.number("finish.bytes_out", float64(f.BytesOut), 0, MaxBytes)
	if len(f.Sent) > MaxRefs {
		c.refuse("finish.sent", "has %d elements; at most %d are allowed", len(f.Sent), MaxRefs)
	}
	for task, n := range f.Sent {
		c.text("finish.sent", task, MaxText)
		c.number("finish.sent", float64(n), 0, MaxBytes)
	}
	for outcome, n := range f.Totals {
		c.outcome("finish.totals", outcome)
		c.number("finish.totals", float64(n), 0, MaxCount)
	}
}

func (c *checker) outcome(field, outcome string) {
	switch decide.Outcome(outcome) {
	case decide.Current, decide.Cached, decide.Restored, decide.Fetched, decide.Ran, decide.Failed, decide.Blocked, decide.Stopped,
		decide.NotStarted:
	default:
		c.refuse(field, "%.80q is not an outcome", outcome)
	}
}

// Retention checks a change of quota and retention.
func Retention(in protocol.RetentionChange) error {
	var c checker
	c.text("shelf", in.Shelf, MaxName)
	if in.QuotaBytes != nil {
		c.number("quota_bytes", float64(*in.QuotaBytes), 0, 1<<60)
	}
	if in.Days != nil {
		c.number("days", float64(*in.Days), 0, 36500)
	}
	switch {
	case in.QuotaBytes == nil && in.Days == nil:
		c.refuse("quota_bytes", "or days is required")
	case in.Shelf != "" && (in.Days != nil || in.QuotaBytes == nil):
		c.refuse("shelf", "is given with quota_bytes, and without days")
	}
	return c.err
}

// NewToken checks the rights of a token that is to be made, as far as they are
// texts and numbers.
func NewToken(in protocol.NewToken) error {
	var c checker
	c.text("name", in.Name, MaxName)
	c.text("writes_to", in.WritesTo, MaxName)
	if len(in.ReadsFrom) > 100 {
		c.refuse("reads_from", "has %d elements; at most 100 are allowed", len(in.ReadsFrom))
	}
	for _, s := range in.ReadsFrom {
		c.text("reads_from", s, MaxName)
	}
	c.texts("serves", in.Serves, 100)
	c.number("days", float64(in.Days), 0, 36500)
	return c.err
}

// Withdrawal checks what is withdrawn.
func Withdrawal(in protocol.Withdrawal) error {
	var c checker
	c.required("listing", in.Listing)
	c.text("shelf", in.Shelf, MaxName)
	return c.err
}
