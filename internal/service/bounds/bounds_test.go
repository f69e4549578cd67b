package bounds_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func entry() protocol.Entry {
	d := digest.Of(nil)
	return protocol.Entry{
		Key:         d,
		Listing:     d,
		Ingredients: d,
		Task:        "build@a",
		Seconds:     3,
		Bytes:       10,
		MadeBy:      protocol.Maker{At: now},
	}
}

func run() protocol.Run {
	return protocol.Run{ID: "run-00000001", Jobs: 4, Tasks: 20, Started: now, Requested: []string{"build"}}
}

func task() protocol.TaskRecord {
	return protocol.TaskRecord{Task: "build@a", Outcome: "ran", Seconds: 2, SavedSeconds: -1}
}

func claim() protocol.Claim {
	return protocol.Claim{Key: digest.Of(nil), Shelf: "trusted", Run: "run-00000001", Task: "build@a", Seconds: 20, Place: "ci-4"}
}

func TestWhatHonestClientsSendIsAccepted(t *testing.T) {
	rec := task()
	for _, err := range []error{
		bounds.Entry(entry()), bounds.Run(run()), bounds.Event(protocol.Event{Seq: 1, Task: &rec}),
		bounds.Event(protocol.Event{Seq: 2, Start: &protocol.TaskStart{Task: "build@a"}}),
		bounds.Event(protocol.Event{Seq: 3, Finish: &protocol.RunFinish{Totals: map[string]int{"ran": 1, "not-started": 0}}}),
		bounds.Text("q", "build@fares"), bounds.Claim(claim()),
	} {
		if err != nil {
			t.Error(err)
		}
	}
}

func TestTheFieldWithAWrongValueIsNamed(t *testing.T) {
	inEntry := func(change func(*protocol.Entry)) error { e := entry(); change(&e); return bounds.Entry(e) }
	inRun := func(change func(*protocol.Run)) error { r := run(); change(&r); return bounds.Run(r) }
	inTask := func(change func(*protocol.TaskRecord)) error {
		r := task()
		change(&r)
		return bounds.Event(protocol.Event{Seq: 1, Task: &r})
	}
	inFinish := func(f protocol.RunFinish) error { return bounds.Event(protocol.Event{Seq: 1, Finish: &f}) }
	for field, err := range map[string]error{
		"key":                 inEntry(func(e *protocol.Entry) { e.Key = digest.Digest{} }),
		"bytes":               inEntry(func(e *protocol.Entry) { e.Bytes = math.MaxInt64 }),
		"seconds":             inEntry(func(e *protocol.Entry) { e.Seconds = math.Inf(1) }),
		"made_by.at":          inEntry(func(e *protocol.Entry) { e.MadeBy.At = time.Time{} }),
		"made_by.place":       inEntry(func(e *protocol.Entry) { e.MadeBy.Place = strings.Repeat("x", bounds.MaxName+1) }),
		"refs":                inEntry(func(e *protocol.Entry) { e.Refs = []digest.Digest{{}} }),
		"id":                  inRun(func(r *protocol.Run) { r.ID = "../../etc" }),
		"jobs":                inRun(func(r *protocol.Run) { r.Jobs = 3_000_000_000 }),
		"branch":              inRun(func(r *protocol.Run) { r.Branch = "a\x00b" }),
		"host":                inRun(func(r *protocol.Run) { r.Host = "\xff" }),
		"started":             inRun(func(r *protocol.Run) { r.Started = now.AddDate(300, 0, 0) }),
		"requested":           inRun(func(r *protocol.Run) { r.Requested = make([]string, bounds.MaxList+1) }),
		"task.outcome":        inTask(func(r *protocol.TaskRecord) { r.Outcome = "won" }),
		"task.saved_seconds":  inTask(func(r *protocol.TaskRecord) { r.SavedSeconds = 1.7e308 }),
		"task.bytes_in":       inTask(func(r *protocol.TaskRecord) { r.BytesIn = -1 }),
		"task.at":             inTask(func(r *protocol.TaskRecord) { r.At = math.NaN() }),
		"finish.cost_seconds": inFinish(protocol.RunFinish{CostSeconds: -1}),
		"finish.totals":       inFinish(protocol.RunFinish{Totals: map[string]int{"ran": -1}}),
		"event":               bounds.Event(protocol.Event{Seq: 1}),
		"seq":                 bounds.Event(protocol.Event{Seq: -1, Start: &protocol.TaskStart{}}),
	} {
		if err == nil || !strings.HasPrefix(err.Error(), field+" ") {
			t.Errorf("%s: %v", field, err)
		}
	}
}

func TestTheWrongFieldOfAClaimIsNamed(t *testing.T) {
	for field, change := range map[string]func(*protocol.Claim){
		"key":     func(c *protocol.Claim) { c.Key = digest.Digest{} },
		"shelf":   func(c *protocol.Claim) { c.Shelf = "" },
		"run":     func(c *protocol.Claim) { c.Run = strings.Repeat("x", bounds.MaxName+1) },
		"task":    func(c *protocol.Claim) { c.Task = "" },
		"host":    func(c *protocol.Claim) { c.Host = "a\x00b" },
		"place":   func(c *protocol.Claim) { c.Place = "\xff" },
		"seconds": func(c *protocol.Claim) { c.Seconds = math.Inf(1) },
	} {
		c := claim()
		change(&c)
		if err := bounds.Claim(c); err == nil || !strings.HasPrefix(err.Error(), field+" ") {
			t.Errorf("%s: %v", field, err)
		}
	}
	c := claim()
	c.Seconds = -1
	if bounds.Claim(c) == nil {
		t.Error("a task that takes less than no time was accepted")
	}
}
