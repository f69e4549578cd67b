package report_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/core/report"
)

var run = report.Run{
	ID: "r1", Repo: "skerry", Title: "build test", Name: "kari", Place: "harbour", Branch: "main", Commit: "0123456789", Started: time.Unix(1e9, 0),
	Seconds: 10, Saved: 60, Cost: 1, BytesIn: 1_500_000,
	Tasks: []report.Task{
		{Address: "rates@fares", Project: "fares", Outcome: "ran", Reason: "files", Detail: []string{"rates/summer.csv"}, Seconds: 4, Slot: 1, Critical: true},
		{Address: "test@fares", Project: "fares", Outcome: "failed", Reason: "upstream", Message: "exit 1", At: 4, Seconds: 6, Slot: 2,
			Log:   "got <b>3.005</b>\x1b[31m red\n<script>alert(1)</script>",
			Cases: []junit.Case{{Name: "TestRounding", Result: junit.Failed, Message: "3.005 & <more>"}, {Name: "TestZones", Result: junit.Passed}}},
		{Address: "build@money", Project: "money", Outcome: "fetched", At: 0, Seconds: 2, Saved: 58, MadeBy: "ci at harbour"},
		{Address: "build@tides", Project: "tides", Outcome: "fetched", At: 1, Seconds: 2},
		{Address: "build@harbour", Project: "harbour", Outcome: "ran", Reason: "new", At: 3.5, Seconds: 2, Slot: 1},
		{Address: "lint@money", Project: "money", Outcome: "current"},
		{Address: "package@fares", Project: "fares", Outcome: "blocked", Message: "depends on test@fares"},
	},
}

func write(t *testing.T, k report.Kind) string {
	t.Helper()
	text, err := report.Write(k, run)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func TestThePageNeedsNothingElseAndShowsTextAsText(t *testing.T) {
	page := write(t, report.HTML)
	for _, want := range []string{
		"build test: <span class=\"bad\">failed</span> after 10 s", "rates@fares", "files: rates/summer.csv", "a file it reads changed",
		"got &lt;b&gt;3.005&lt;/b&gt;", "&lt;script&gt;", "TestRounding", "ci at harbour", "1.5 MB in", "depends on test@fares", "class=\"o-failed\"",
	} {
		if !strings.Contains(page, want) {
			t.Errorf("the page does not contain %q", want)
		}
	}
	for _, never := range []string{"<script", "src=", "href=", "url(", "http://", "https://", "ZgotmplZ"} {
		if strings.Contains(page, never) {
			t.Errorf("the page contains %q", never)
		}
	}
}

func TestTheJUnitReportHasEveryTaskAndEveryTestCase(t *testing.T) {
	cases, err := junit.Parse([]byte(write(t, report.JUnit)))
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]junit.Result{}
	for _, c := range cases {
		got[c.Name[strings.LastIndex(c.Name, ".")+1:]] = c.Result
	}
	want := map[string]junit.Result{
		"rates@fares": junit.Passed, "test@fares": junit.Failed, "build@money": junit.Passed, "package@fares": junit.Skipped, "TestRounding": junit.Failed,
		"TestZones": junit.Passed,
	}
	for name, result := range want {
		if got[name] != result {
			t.Errorf("%s: %q, want %q", name, got[name], result)
		}
	}
	if len(cases) != len(run.Tasks)+2 {
		t.Errorf("%d cases", len(cases))
	}
}

// The fields that trace viewers require of complete events and of the names of
// threads.
func TestTheTraceHasTheFieldsThatViewersRequire(t *testing.T) {
	var doc struct {
		Events []map[string]any `json:"traceEvents"`
		Unit   string           `json:"displayTimeUnit"`
	}
	if err := json.Unmarshal([]byte(write(t, report.Trace)), &doc); err != nil || doc.Unit != "ms" {
		t.Fatal(err, doc.Unit)
	}
	spans := map[string]map[string]any{}
	threads := map[float64]string{}
	for _, e := range doc.Events {
		switch e["ph"] {
		case "X":
			spans[e["name"].(string)] = e
			for _, field := range []string{"ts", "dur", "pid", "tid"} {
				if _, ok := e[field].(float64); !ok {
					t.Errorf("%v: %s is %v", e["name"], field, e[field])
				}
			}
		case "M":
			if e["name"] == "thread_name" {
				threads[e["tid"].(float64)] = e["args"].(map[string]any)["name"].(string)
			}
		default:
			t.Errorf("phase %v", e["ph"])
		}
	}
	if len(spans) != 5 || spans["test@fares"]["ts"] != 4e6 || spans["test@fares"]["dur"] != 6e6 {
		t.Errorf("%v", spans)
	}
	// A task got the slot of another one whose outputs were still being kept.
	if spans["rates@fares"]["dur"] != 3.5e6 || spans["build@harbour"]["dur"] != 2e6 {
		t.Errorf("tasks of one slot overlap: %v", spans)
	}
	// Two transfers that overlap are not on one thread.
	a, b := spans["build@money"]["tid"].(float64), spans["build@tides"]["tid"].(float64)
	if a == b || threads[a] != "transfers" || threads[spans["rates@fares"]["tid"].(float64)] != "slot 1" {
		t.Errorf("%v %v %v", a, b, threads)
	}
}

func TestAnUnknownKindIsRefused(t *testing.T) {
	if _, err := report.Write("pdf", run); err == nil || !strings.Contains(err.Error(), "html, junit or trace") {
		t.Error(err)
	}
}
