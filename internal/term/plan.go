package term

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/inspect"
)

// verbs are the words of a plan for expected outcomes, in the order of the list.
var verbs = []struct {
	outcome decide.Outcome
	verb    string
	quiet   bool // counted, not listed, unless the screen is verbose
}{
	{decide.Failed, "fail", false}, {decide.Ran, "run", false}, {decide.MayRun, "may run", false}, {decide.Fetched, "fetch", false},
	{decide.Restored, "restore", false}, {decide.Cached, "cached", true}, {decide.Current, "current", true},
}

// PrintPlan prints a sentence, the list of tasks, and a legend.
func (sc *Screen) PrintPlan(p *inspect.Preview, now time.Time) {
	if len(p.Tasks) == 0 {
		fmt.Fprintln(sc.Out, "Nothing to do: no task was selected.")
		return
	}
	fmt.Fprintln(sc.Out, headline(p))
	rows := [][]string{}
	var counts []string
	for _, v := range verbs {
		verb := sc.Tint(v.outcome, Pad(v.verb, 7))
		n := 0
		for _, x := range p.Tasks {
			if x.Outcome != v.outcome {
				continue
			}
			if n++; !v.quiet || sc.Verbose {
				rows = append(rows, append([]string{verb, x.Task.Addr()}, planCells(x, now)...))
			}
		}
		if n > 0 && v.quiet && !sc.Verbose {
			counts = append(counts, fmt.Sprintf("  %s  %s", verb, amount.Count(n, "task", "tasks")))
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(sc.Out)
		sc.Grid(rows)
	}
	for _, line := range counts {
		fmt.Fprintln(sc.Out, line)
	}
	for _, x := range p.Tasks {
		if x.Outcome == decide.Failed {
			sc.cannotBeExamined(x)
		}
	}
	sc.planLegend(p)
}

// cannotBeExamined says why.
func (sc *Screen) cannotBeExamined(x *inspect.Expected) {
	text := Printable(FirstLine(x.Message))
	if addr := x.Task.Addr(); !strings.HasPrefix(text, addr) {
		text = addr + ": " + text
	}
	fmt.Fprintln(sc.Out, "\n"+strings.Join(Wrap(text, sc.Width()), "\n"))
}

func headline(p *inspect.Preview) string {
	n := p.Totals()
	run, may, all := n[string(decide.Ran)], n[string(decide.MayRun)], amount.Count(len(p.Tasks), "task", "tasks")
	var b strings.Builder
	switch {
	case run == 0 && may == 0:
		fmt.Fprintf(&b, "None of %s would run", all)
	case may == 0:
		fmt.Fprintf(&b, "%d of %s would run", run, all)
	case run == 0:
		fmt.Fprintf(&b, "%d of %s may run", may, all)
	default:
		fmt.Fprintf(&b, "%d of %s would run, and up to %d more", run, all, may)
	}
	if p.Takes > 0.05 {
		fmt.Fprintf(&b, ", about %s", InWords(p.Takes))
		if longest := slowest(p); longest != nil && len(p.Path) > 1 {
			fmt.Fprintf(&b, "; %s takes longest", longest.Addr())
		}
	}
	b.WriteString(".")
	if s := p.Saved(); s >= 0.1 {
		fmt.Fprintf(&b, " Saves %s.", InWords(s))
	}
	if f := n[string(decide.Failed)]; f > 0 {
		fmt.Fprintf(&b, " %s cannot be examined.", amount.Count(f, "task", "tasks"))
	}
	return b.String()
}

// slowest returns the task that takes longest on the longest path.
func slowest(p *inspect.Preview) *graph.Task {
	if len(p.Path) == 0 {
		return nil
	}
	took := map[*graph.Task]float64{}
	for _, x := range p.Tasks {
		took[x.Task] = x.Seconds
	}
	return slices.MaxFunc(p.Path, func(a, b *graph.Task) int { return cmp.Compare(took[a], took[b]) })
}

// planCells returns the reason, the details and the duration or size of a task.
func planCells(x *inspect.Expected, now time.Time) []string {
	took := ""
	switch {
	case x.Runs() && x.Seconds > 0:
		took = "~" + Seconds(x.Seconds)
	case x.Runs():
		took = "?"
	case x.Size > 1:
		took = Size(x.Size)
	}
	reason := string(x.Reason)
	what := strings.TrimPrefix(DescribeChanges(x.Changes), ": ")
	switch {
	case x.Outcome == decide.Failed: // why is below the list, where nothing is clipped
	case x.Outcome == decide.MayRun && x.Reason == "":
		reason = string(key.Upstream)
		what = "unless " + FirstFew(Addresses(x.On)) + sameOutputs(len(x.On))
	case x.Outcome == decide.MayRun:
		what = strings.TrimPrefix(what+"; depends on "+FirstFew(Addresses(x.On)), "; ")
	case x.MadeBy != nil:
		what = BuiltBy(x.MadeBy.Name, x.MadeBy.Place) + ", " + Clock(x.MadeBy.At, now)
	}
	return []string{reason, what, took}
}

func sameOutputs(n int) string {
	if n == 1 {
		return " produces the same outputs"
	}
	return " produce the same outputs"
}

// planLegend explains the reasons that occur, and what they compare with.
func (sc *Screen) planLegend(p *inspect.Preview) {
	var lines []string
	if len(p.Path) > 1 {
		lines = append(lines, fmt.Sprintf("%-13s %s", "longest", strings.Join(Addresses(p.Path), " → ")))
	}
	seen := reasonsOf(p)
	for _, r := range key.Order {
		switch {
		case !seen[r]:
		case r == key.Upstream:
			lines = append(lines, legendLine(r, "the outputs of a dependency changed, or may change"))
		default:
			lines = append(lines, legendLine(r, key.Legend[r]))
		}
	}
	if when := comparedWith(p); when != "" && len(seen) > 0 {
		lines = append(lines, when)
	}
	if len(lines) > 0 {
		fmt.Fprintln(sc.Out)
	}
	for _, l := range lines {
		for _, line := range Wrap(l, sc.Width()) {
			fmt.Fprintln(sc.Out, sc.Soft(line))
		}
	}
}

func reasonsOf(p *inspect.Preview) map[key.Reason]bool {
	seen := map[key.Reason]bool{}
	for _, x := range p.Tasks {
		switch {
		case x.Reason != "":
			seen[x.Reason] = true
		case x.Outcome == decide.MayRun:
			seen[key.Upstream] = true
		}
	}
	return seen
}

// comparedWith says which runs the tasks that would run are compared with.
func comparedWith(p *inspect.Preview) string {
	runs := map[string]time.Time{}
	for _, x := range p.Tasks {
		if x.Runs() && x.Compared != nil {
			runs[x.Compared.Run] = x.Compared.At
		}
	}
	if len(runs) == 0 {
		return ""
	}
	ids := slices.SortedFunc(maps.Keys(runs), func(x, y string) int { return runs[y].Compare(runs[x]) })
	out := fmt.Sprintf("compared with run %s of %s", ids[0], Clock(runs[ids[0]], time.Now()))
	if len(ids) > 1 {
		out += fmt.Sprintf(", and %s", amount.Count(len(ids)-1, "older run", "older runs"))
	}
	return out + "; ~ marks durations of earlier runs"
}
