package protocol

import (
	"strings"

	"grayloft.example/grayloft/internal/core/report"
)

// Report returns what a report says about a run and its tasks. Logs and test
// cases are added by the caller.
func (r RunRow) Report(repo string, records []TaskRecord) report.Run {
	out := report.Run{
		ID: r.ID, Repo: repo, Title: strings.Join(r.Requested, " "), Name: r.Name, Place: r.Place, Host: r.Host, Branch: r.Branch,
		Commit: r.Commit, Started: r.Started, Seconds: r.Seconds, OK: r.OK, Interrupted: r.Interrupted, Saved: r.SavedSeconds,
		Cost: r.CostSeconds, BytesIn: r.BytesIn, BytesOut: r.BytesOut, FetchSeconds: r.FetchSeconds,
	}
	if out.Title == "" {
		out.Title = "picked"
	}
	for _, t := range records {
		x := report.Task{
			Address: t.Task, Project: t.Project, Outcome: t.Outcome, Reason: t.Reason, Detail: t.Detail, Message: t.Message, At: t.At,
			Seconds: t.Seconds, Slot: t.Slot, Saved: t.SavedSeconds, Critical: t.Critical,
		}
		if t.MadeBy != nil {
			x.MadeBy = t.MadeBy.Name + " at " + t.MadeBy.Place
		}
		out.Tasks = append(out.Tasks, x)
	}
	return out
}
