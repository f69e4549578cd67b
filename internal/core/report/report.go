// Package report writes what happened in a run for people and for other tools:
// one self-contained page of HTML, JUnit XML, or a trace for trace viewers. It
// takes a run and returns bytes.
package report

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/core/tasklog"
)

// Kind is a kind of report.
type Kind string

// The kinds of reports.
const (
	HTML  Kind = "html"
	JUnit Kind = "junit"
	Trace Kind = "trace"
)

// Kinds are all kinds of reports.
var Kinds = []Kind{HTML, JUnit, Trace}

// MediaType returns the media type of a kind of report, and the usual extension
// of its files.
func (k Kind) MediaType() (media, extension string) {
	switch k {
	case HTML:
		return "text/html; charset=utf-8", "html"
	case JUnit:
		return "application/xml", "xml"
	}
	return "application/json", "json"
}

// Run is a run to report.
type Run struct {
	ID, Repo, Title   string
	Name, Place, Host string
	Branch, Commit    string
	Started           time.Time
	Seconds           float64
	OK, Interrupted   bool
	Saved, Cost       float64 // seconds
	BytesIn, BytesOut int64
	FetchSeconds      float64
	Tasks             []Task
}

// Task is a task of a run.
type Task struct {
	Address, Project string
	Outcome, Reason  string
	Detail           []string
	Message          string
	At, Seconds      float64 // since the start of the run; how long it took
	Slot             int     // from 1; 0: none
	Saved            float64 // seconds
	Critical         bool
	MadeBy           string // who made its outputs, if somebody else did
	Log              string // of a failure
	Cases            []junit.Case
}

// Write returns a report of a run.
func Write(k Kind, r Run) ([]byte, error) {
	switch k {
	case HTML:
		return page(r)
	case JUnit:
		return suites(r)
	case Trace:
		return trace(r)
	}
	return nil, fmt.Errorf("%q is not a kind of report: html, junit or trace", k)
}

// suites returns a report with a suite for each project, whose cases are its
// tasks, and one for each task that has test cases of its own.
func suites(r Run) ([]byte, error) {
	byProject := map[string]*junit.Suite{}
	var order []*junit.Suite
	var own []junit.Suite
	for _, t := range r.Tasks {
		s := byProject[t.Project]
		if s == nil {
			s = &junit.Suite{Name: t.Project, At: r.Started}
			byProject[t.Project] = s
			order = append(order, s)
		}
		s.Took += t.Seconds
		s.Cases = append(s.Cases, t.junitCase())
		if len(t.Cases) > 0 {
			own = append(own, junit.Suite{Name: t.Address, At: r.Started, Took: t.Seconds, Cases: t.Cases})
		}
	}
	slices.SortFunc(order, func(a, b *junit.Suite) int { return cmp.Compare(a.Name, b.Name) })
	var all []junit.Suite
	for _, s := range order {
		all = append(all, *s)
	}
	return junit.Write(cmp.Or(r.Title, "grayloft")+" "+r.ID, r.Seconds, append(all, own...))
}

func (t Task) junitCase() junit.Case {
	c := junit.Case{Name: t.Address, Result: junit.Passed, Seconds: t.Seconds, Message: t.Message}
	switch t.Outcome {
	case "failed":
		c.Result, c.Message = junit.Failed, strings.TrimSpace(t.Message+"\n"+t.Log)
	case "blocked", "stopped", "not-started":
		c.Result, c.Message = junit.Skipped, cmp.Or(t.Message, t.Outcome)
	}
	return c
}

// traceEvent is an event of the trace event format ("Trace Event Format",
// docs.google.com/document/d/1CvAClvFfyA5R-PhYUmn5OOQtYMH4h6I0nSsKchNAySU):
// complete events ("X") and names of threads ("M"). Times are in microseconds.
type traceEvent struct {
	Name  string         `json:"name"`
	Cat   string         `json:"cat,omitempty"`
	Phase string         `json:"ph"`
	At    float64        `json:"ts"`
	Took  *float64       `json:"dur,omitempty"`
	PID   int            `json:"pid"`
	TID   int            `json:"tid"`
	Args  map[string]any `json:"args,omitempty"`
}

// transfers is the number of the first thread of tasks that took no slot.
const transfers = 1000

func trace(r Run) ([]byte, error) {
	events := []traceEvent{{Name: "process_name", Phase: "M", PID: 1, Args: map[string]any{"name": r.Title}}}
	named := map[int]bool{}
	for _, b := range lay(r.Tasks) {
		tid, name := b.slot, fmt.Sprintf("slot %d", b.slot)
		if b.slot == 0 {
			tid, name = transfers+b.lane, "transfers"
		}
		if !named[tid] {
			named[tid] = true
			events = append(events, traceEvent{Name: "thread_name", Phase: "M", PID: 1, TID: tid, Args: map[string]any{"name": name}})
		}
		took := b.seconds * 1e6
		args := map[string]any{"outcome": b.task.Outcome}
		for name, text := range map[string]string{"reason": b.task.Reason, "detail": strings.Join(b.task.Detail, ", "),
			"built by": b.task.MadeBy} {
			if text != "" {
				args[name] = text
			}
		}
		events = append(events, traceEvent{
			Name: b.task.Address, Cat: b.task.Outcome, Phase: "X", At: b.task.At * 1e6, Took: &took, PID: 1, TID: tid, Args: args,
		})
	}
	return json.Marshal(map[string]any{
		"traceEvents": events, "displayTimeUnit": "ms",
		"otherData": map[string]any{
			"run":        r.ID,
			"repository": r.Repo,
			"commit":     r.Commit,
			"started":    r.Started.UTC().Format(time.RFC3339),
		},
	})
}

// block is a task in a timeline.
type block struct {
	task       Task
	slot, lane int     // lane: among those without a slot, from 0
	seconds    float64 // until the next task has its slot; it may still have been kept then
}

// lay puts the tasks that took time into lanes: one for each slot, and as many
// for transfers as overlap.
func lay(tasks []Task) []block {
	sorted := slices.Clone(tasks)
	slices.SortStableFunc(sorted, func(a, b Task) int { return cmp.Compare(a.At, b.At) })
	var out []block
	var busy []float64
	last := map[int]int{} // in each slot
	for _, t := range sorted {
		if t.Slot > 0 {
			if i, ok := last[t.Slot]; ok {
				out[i].seconds = min(out[i].seconds, t.At-out[i].task.At)
			}
			last[t.Slot] = len(out)
			out = append(out, block{t, t.Slot, 0, t.Seconds})
			continue
		}
		if t.Outcome != "fetched" && t.Outcome != "restored" {
			continue
		}
		lane := slices.IndexFunc(busy, func(until float64) bool { return until <= t.At })
		if lane < 0 {
			lane = len(busy)
			busy = append(busy, 0)
		}
		busy[lane] = t.At + t.Seconds
		out = append(out, block{t, 0, lane, t.Seconds})
	}
	return out
}

// Tail returns the last lines of a log as one text.
func Tail(lines []tasklog.Line, most int) string {
	var b strings.Builder
	if n := len(lines) - most; n > 0 {
		fmt.Fprintf(&b, "… %d earlier lines\n", n)
		lines = lines[n:]
	}
	for _, l := range lines {
		b.WriteString(l.Text + "\n")
	}
	return b.String()
}
