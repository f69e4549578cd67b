package term

import (
	"fmt"
	"strings"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/engine"
)

// PrintSummary prints the outcome of a run: a legend of the reasons that were
// shown, and a sentence.
func (sc *Screen) PrintSummary(s *engine.Summary) {
	seen := map[key.Reason]bool{}
	for _, r := range s.Results {
		if r.Outcome == decide.Ran && !seen[r.Reason] {
			seen[r.Reason] = true
			fmt.Fprintln(sc.Out, sc.Soft(legendLine(r.Reason, key.Legend[r.Reason])))
		}
	}
	if len(seen) > 0 {
		fmt.Fprintln(sc.Out)
	}
	fmt.Fprintln(sc.Out, Summary(s))
}

func legendLine(r key.Reason, text string) string { return fmt.Sprintf("%-13s %s", r, text) }

// Summary describes the outcome of a run in plain sentences.
func Summary(s *engine.Summary) string {
	if len(s.Results) == 0 {
		return "Nothing to do: no task was selected."
	}
	n := s.Totals()
	count := func(o decide.Outcome) int { return n[string(o)] }
	parts := []string{ranOf(count(decide.Ran)+count(decide.Failed), len(s.Results))}
	if f := count(decide.Failed); f > 0 {
		word := fmt.Sprintf("%d failed", f)
		if blocked := count(decide.Blocked); blocked > 0 {
			word += map[bool]string{true: " and blocks ", false: " and block "}[f == 1] + fmt.Sprintf("%d more", blocked)
		}
		parts = append(parts, word)
	}
	var rest []string
	for _, o := range []decide.Outcome{decide.Fetched, decide.Restored, decide.Cached, decide.Current, decide.Stopped, decide.NotStarted} {
		if count(o) > 0 {
			rest = append(rest, fmt.Sprintf("%d %s", count(o), o))
		}
	}
	if len(rest) > 0 {
		parts = append(parts, strings.Join(rest, ", "))
	}
	return strings.Join(parts, "; ") + "." + balance(s)
}

func ranOf(ran, all int) string {
	if ran == 0 {
		return "Ran none of " + amount.Count(all, "task", "tasks")
	}
	return fmt.Sprintf("Ran %d of %s", ran, amount.Count(all, "task", "tasks"))
}

// balance says what was saved, and what fetching took.
func balance(s *engine.Summary) string {
	saved, cost := s.Saved(), s.Fetching.Seconds()
	switch {
	case saved < 0.1:
		return ""
	case cost > 0.05:
		return fmt.Sprintf(" Saved %s; fetching took %s.", InWords(saved), InWords(cost))
	}
	return fmt.Sprintf(" Saved %s.", InWords(saved))
}
