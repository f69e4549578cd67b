package cli

import (
	"fmt"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/key"
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
	if a.format != "json" && (!a.quiet || !s.OK()) {
		a.legend(s)
		fmt.Fprintln(a.out, a.summary(s))
	}
}

// sharing says on a terminal, after a while, that uploads are still in
// progress.
func (a *app) sharing() (stop func()) {
	if a.width() == 0 || a.quiet {
		return func() {}
	}
	t := time.AfterFunc(time.Second, func() {
		fmt.Fprintln(a.err, a.soft("Uploading results; an interrupt leaves the rest to a later run."))
	})
	return func() { t.Stop() }
}

// report writes the document of a run, and returns its exit code.
func (a *app) report(opt engine.Options, s *engine.Summary) error {
	if a.format == "json" {
		out := runJSON{Run: opt.Run, OK: s.OK(), Seconds: round(s.Took.Seconds()), Tasks: []runTaskJSON{}, Totals: s.Totals()}
		for _, r := range s.Results {
			out.Tasks = append(out.Tasks, resultJSON(r))
		}
		if err := a.json(out); err != nil {
			return err
		}
	}
	switch {
	case s.Interrupted:
		return exit{exitInterrupted, ""}
	case !s.OK():
		return exit{exitFailed, ""}
	}
	return nil
}

// legend explains the reasons that were shown.
func (a *app) legend(s *engine.Summary) {
	seen := map[key.Reason]bool{}
	for _, r := range s.Results {
		if r.Outcome == decide.Ran && !seen[r.Reason] {
			seen[r.Reason] = true
			fmt.Fprintln(a.out, a.soft(fmt.Sprintf("%-11s %s", r.Reason, key.Legend[r.Reason])))
		}
	}
	if len(seen) > 0 {
		fmt.Fprintln(a.out)
	}
}

func resultJSON(r *engine.Result) runTaskJSON {
	j := runTaskJSON{
		Task: r.Task.Addr(), Project: r.Task.Project.Name, Outcome: string(r.Outcome), Detail: r.Detail(), Message: r.Message,
		Seconds: round(r.Timing.Took.Seconds()), Key: r.Digests.Key.String(), MadeBy: r.MadeBy, SavedSeconds: round(r.Saved()), Picked: r.Picked, Drift: r.Drift,
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

// summary describes the outcome of a run in plain sentences.
func (a *app) summary(s *engine.Summary) string {
	n := s.Totals()
	count := func(o decide.Outcome) int { return n[string(o)] }
	all := counted(len(s.Results), "task", "tasks")
	if len(s.Results) == 0 {
		return "Nothing to do: no task was selected."
	}
	ran := count(decide.Ran) + count(decide.Failed)
	var parts []string
	if ran == 0 {
		parts = append(parts, fmt.Sprintf("Ran none of %s", all))
	} else {
		parts = append(parts, fmt.Sprintf("Ran %d of %s", ran, all))
	}
	if f := count(decide.Failed); f > 0 {
		word := fmt.Sprintf("%d failed", f)
		if h := count(decide.Blocked); h == 1 {
			word += " and blocks 1 more"
		} else if h > 1 {
			word += fmt.Sprintf(" and blocks %d more", h)
		}
		parts = append(parts, word)
	}
	var rest []string
	for _, o := range []decide.Outcome{decide.Fetched, decide.Restored, decide.Cached} {
		if count(o) > 0 {
			rest = append(rest, fmt.Sprintf("%d %s", count(o), o))
		}
	}
	if c := count(decide.Current); c > 0 {
		rest = append(rest, fmt.Sprintf("%d current", c))
	}
	for _, o := range []decide.Outcome{decide.Stopped, decide.NotStarted} {
		if count(o) > 0 {
			rest = append(rest, fmt.Sprintf("%d %s", count(o), o))
		}
	}
	if len(rest) > 0 {
		parts = append(parts, strings.Join(rest, ", "))
	}
	line := strings.Join(parts, "; ") + "."
	saved, cost := s.Saved(), s.Fetching.Seconds()
	switch {
	case saved < 0.1:
	case cost > 0.05:
		line += fmt.Sprintf(" Saved %s; fetching took %s.", inWords(saved), inWords(cost))
	default:
		line += fmt.Sprintf(" Saved %s.", inWords(saved))
	}
	return line
}
