package cli

import (
	"fmt"
	"time"

	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
)

type runJSON struct {
	Run     string         `json:"run"`
	OK      bool           `json:"ok"`
	Seconds float64        `json:"seconds"`
	Tasks   []runTaskJSON  `json:"tasks"`
	Totals  map[string]int `json:"totals"`
}

type runTaskJSON struct {
	Task         string          `json:"task"`
	Project      string          `json:"project"`
	Outcome      string          `json:"outcome"`
	Reason       *string         `json:"reason"`
	Detail       []string        `json:"detail"`
	Message      string          `json:"message,omitempty"`
	Seconds      float64         `json:"seconds"`
	Key          string          `json:"key"`
	MadeBy       *protocol.Maker `json:"made_by"`
	SavedSeconds float64         `json:"saved_seconds"`
	Picked       bool            `json:"picked"`
	Drift        []drift.Finding `json:"drift,omitempty"`
}

// say prints the outcome of a run for people.
func (a *app) say(s *engine.Summary) {
	if a.Format != "json" && (!a.Quiet || !s.OK()) {
		a.PrintSummary(s)
	}
}

// sharing says on a terminal, after a while, that uploads are still in
// progress.
func (a *app) sharing() (stop func()) {
	if a.Width() == 0 || a.Quiet {
		return func() {}
	}
	t := time.AfterFunc(time.Second, func() {
		fmt.Fprintln(a.Err, a.Soft("Uploading results; an interrupt leaves the rest to a later run."))
	})
	return func() { t.Stop() }
}

// report writes the document of a run, and returns its exit code.
func (a *app) report(opt engine.Options, s *engine.Summary) error {
	if a.Format == "json" {
		out := runJSON{Run: opt.Run, OK: s.OK(), Seconds: round(s.Took.Seconds()), Tasks: []runTaskJSON{}, Totals: s.Totals()}
		for _, r := range s.Results {
			out.Tasks = append(out.Tasks, resultJSON(r))
		}
		if err := a.JSON(out); err != nil {
			return err
		}
	}
	switch {
	case s.Interrupted:
		return exit{exitInterrupted, ""}
	case !s.OK():
		return errFailed
	}
	return nil
}

func resultJSON(r *engine.Result) runTaskJSON {
	j := runTaskJSON{
		Task: r.Task.Addr(), Project: r.Task.Project.Name, Outcome: string(r.Outcome), Detail: r.Detail(), Message: r.Message,
		Seconds: round(
			r.Timing.Took.Seconds(),
		), Key: r.Digests.Key.String(), MadeBy: r.MadeBy, SavedSeconds: round(r.Saved()), Picked: r.Picked, Drift: r.Drift,
	}
	if j.Detail == nil {
		j.Detail = []string{}
	}
	if r.Reason != "" {
		reason := string(r.Reason)
		j.Reason = &reason
	}
	return j
}

func round(s float64) float64 { return float64(int64(s*1000+0.5*sign(s))) / 1000 }

func sign(s float64) float64 {
	if s < 0 {
		return -1
	}
	return 1
}
