package api_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/trial"
)

// Lines of a running task come in parts, late, twice and with gaps: what the
// service has is always the beginning of the log.
func TestGrowingLogs(t *testing.T) {
	t.Parallel()
	c := newCaller(t, ci)
	run := protocol.Run{ID: "growing-1", Host: "h", Place: "harbour-ci", Requested: []string{"talk"}, Tasks: 1, Started: time.Now()}
	const at = "/v1/test/runs/growing-1"
	c.want(200, "POST", "/v1/test/runs", run)
	chunk := func(first, n int) protocol.LogChunks {
		x := protocol.LogChunk{Task: "talk@test", First: first}
		for i := range n {
			x.Lines = append(x.Lines, protocol.LogLine{At: float64(first + i), Text: fmt.Sprintf("line %d", first+i)})
		}
		return protocol.LogChunks{Chunks: []protocol.LogChunk{x}}
	}
	send := func(first, n, want int) {
		t.Helper()
		var answer protocol.LogAnswer
		if err := json.Unmarshal(c.want(200, "POST", at+"/logs", chunk(first, n)), &answer); err != nil || answer.Have["talk@test"] != want {
			t.Errorf("%d lines from %d on: %v %v, want %d", n, first, answer.Have, err, want)
		}
	}
	log := func(query string) (l protocol.Log) {
		t.Helper()
		if err := json.Unmarshal(c.want(200, "GET", at+"/log?task=talk@test"+query, nil), &l); err != nil {
			t.Fatal(err)
		}
		return l
	}
	send(0, 3, 0) // nothing is known to run
	c.want(200, "POST", at+"/events", protocol.Events{Events: []protocol.Event{{Seq: 1, Start: &protocol.TaskStart{Task: "talk@test", At: 1, Slot: 1}}}})
	c.want(404, "GET", at+"/log?task=talk@test", nil)
	send(0, 3, 3)
	send(5, 2, 3)   // a gap
	send(0, 2, 3)   // known
	send(2, 10, 12) // known in part
	send(12, 5000, 5012)
	if l := log(""); l.Total != 5012 || l.First != 12 || len(l.Lines) != 5000 || l.Lines[0].Text != "line 12" {
		t.Errorf("%d lines from %d on, of %d", len(l.Lines), l.First, l.Total)
	}
	if l := log("&first=4"); l.First != 4 || len(l.Lines) != 5000 || l.Lines[0].Text != "line 4" || l.Lines[4999].Text != "line 5003" {
		t.Errorf("%d lines from %d on", len(l.Lines), l.First)
	}
	if l := log("&first=9000"); len(l.Lines) != 0 || l.First != 5012 {
		t.Errorf("%d lines from %d on", len(l.Lines), l.First)
	}
	c.want(400, "POST", at+"/logs", chunk(5012, 5001))

	other := *c
	other.token = trial.Serve(t).Token(t, "brenna", "person/brenna", "trusted")
	other.want(403, "POST", at+"/logs", chunk(5012, 1))

	c.want(200, "POST", at+"/events", protocol.Events{Events: []protocol.Event{{Seq: 2, Task: &protocol.TaskRecord{Task: "talk@test", Project: "test", Outcome: "ran"}}}})
	send(5012, 1, 0) // it has ended: nothing is kept
	c.want(404, "GET", at+"/log?task=talk@test", nil)
	c.want(200, "POST", at+"/events", protocol.Events{Events: []protocol.Event{{Seq: 3, Finish: &protocol.RunFinish{OK: true, Totals: map[string]int{"ran": 1}}}}})
	send(0, 1, -1)
}
