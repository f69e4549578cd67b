package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/remote"
)

func (a *app) planCommand() *cobra.Command {
	var f runFlags
	c := &cobra.Command{
		Use: "plan TASK…", Short: "Show what a run would do and why, without running anything",
		Example: "  grayloft plan build test\n  grayloft plan --pick affected",
		RunE: func(cmd *cobra.Command, args []string) error {
			args, f.extra = behindDash(cmd, args)
			return a.plan(cmd.Context(), f, args)
		},
	}
	f.sharedFlags(c)
	c.Flags().BoolVar(&f.noReuse, "no-reuse", false, "plan as if nothing could be reused")
	return c
}

func (a *app) plan(ctx context.Context, f runFlags, args []string) error {
	f.jobs = 1
	if err := f.check(); err != nil {
		return err
	}
	r, picked, err := a.chosen(ctx, a.loadAhead, f, args)
	if err != nil {
		return err
	}
	p, e, _, err := a.preview(ctx, r, f, picked)
	if err != nil {
		return err
	}
	defer e.State.Close()
	if a.format == "json" {
		return a.json(previewJSON(p))
	}
	a.printPlan(p)
	return nil
}

// preview asks the engine what a run would do.
func (a *app) preview(ctx context.Context, r *repository, f runFlags, picked []*graph.Task) (*inspect.Preview, *engine.Engine, *remote.Client, error) {
	ctx, kill, stop := interrupts(ctx)
	defer stop()
	e, client, err := a.engine(ctx, r, f)
	if err != nil {
		return nil, nil, nil, err
	}
	quiet := &plainView{a: a, out: a.out, logs: "none", quiet: true}
	e.Observer = quiet
	if client != nil {
		client.Warn = quiet.Warn
	}
	p, err := inspect.Plan(ctx, e, engine.Options{
		Run: newRunID(a.now()), Picked: picked, Jobs: 1, NoReuse: f.noReuse, Args: f.extra,
		Fetch: decide.Fetch(f.fetch), Grace: time.Second, Kill: kill,
	})
	if err != nil {
		e.State.Close()
		if ctx.Err() != nil {
			err = exit{exitInterrupted, "interrupted"}
		}
		return nil, nil, nil, err
	}
	_ = e.Files.Memory.Save(e.State.DigestFile())
	return p, e, client, nil
}

type planJSON struct {
	Run     *string        `json:"run"` // always null
	OK      bool           `json:"ok"`
	Seconds float64        `json:"seconds"` // expected, on the longest path
	Tasks   []planTaskJSON `json:"tasks"`
	Totals  map[string]int `json:"totals"`
	Longest []string       `json:"longest"`
	Saved   float64        `json:"saved_seconds"`
}

type planTaskJSON struct {
	runTaskJSON
	On       []string  `json:"on"`
	Expected *float64  `json:"expected_seconds"` // from its last run; null: unknown
	Compared *pastJSON `json:"compared_with"`
}

type pastJSON struct {
	Run string    `json:"run"`
	At  time.Time `json:"at"`
}

func previewJSON(p *inspect.Preview) planJSON {
	out := planJSON{OK: true, Seconds: round(p.Takes), Tasks: []planTaskJSON{}, Totals: p.Totals(), Longest: addrs(p.Path), Saved: round(p.Saved())}
	for _, x := range p.Tasks {
		j := planTaskJSON{runTaskJSON: resultJSON(&x.Result), On: addrs(x.On)}
		if x.Digests.Key.IsZero() {
			j.Key = ""
		}
		if x.Seconds > 0 && (x.Outcome == decide.Ran || x.Outcome == decide.MayRun) {
			s := round(x.Seconds)
			j.Expected = &s
		}
		if x.Compared != nil {
			j.Compared = &pastJSON{x.Compared.Run, x.Compared.At.UTC()}
		}
		out.OK = out.OK && x.Outcome != decide.Failed
		out.Tasks = append(out.Tasks, j)
	}
	return out
}

var verbs = map[decide.Outcome]string{
	decide.Ran: "run", decide.MayRun: "may run", decide.Fetched: "fetch", decide.Restored: "restore",
	decide.Cached: "known", decide.Current: "current", decide.Failed: "fail",
}

// printPlan prints the summary, then the list, then the legend.
func (a *app) printPlan(p *inspect.Preview) {
	if len(p.Tasks) == 0 {
		fmt.Fprintln(a.out, "Nothing to do: no task was selected.")
		return
	}
	fmt.Fprintln(a.out, headline(p))
	rows := [][]string{}
	seen := map[key.Reason]bool{}
	n := p.Totals()
	for _, o := range []decide.Outcome{decide.Failed, decide.Ran, decide.MayRun, decide.Fetched, decide.Restored, decide.Cached, decide.Current} {
		if (o == decide.Cached || o == decide.Current) && !a.verbose {
			continue
		}
		for _, x := range p.Tasks {
			if x.Outcome != o {
				continue
			}
			rows = append(rows, a.planRow(x))
			if x.Reason != "" {
				seen[x.Reason] = true
			}
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.grid(rows)
	}
	if !a.verbose {
		for _, o := range []decide.Outcome{decide.Cached, decide.Current} {
			if c := n[string(o)]; c > 0 {
				fmt.Fprintf(a.out, "  %s  %s\n", a.tint(o, pad(verbs[o], 7)), counted(c, "task", "tasks"))
			}
		}
	}
	a.planLegend(p, seen)
}

func headline(p *inspect.Preview) string {
	n := p.Totals()
	run, may, all := n[string(decide.Ran)], n[string(decide.MayRun)], counted(len(p.Tasks), "task", "tasks")
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
		fmt.Fprintf(&b, ", about %s", inWords(p.Takes))
		if longest := slowest(p); longest != nil && len(p.Path) > 1 {
			fmt.Fprintf(&b, "; %s takes longest", longest.Addr())
		}
	}
	b.WriteString(".")
	if s := p.Saved(); s >= 0.1 {
		fmt.Fprintf(&b, " Saves %s.", inWords(s))
	}
	if f := n[string(decide.Failed)]; f > 0 {
		fmt.Fprintf(&b, " %s cannot be examined.", counted(f, "task", "tasks"))
	}
	return b.String()
}

// slowest returns the task that takes longest on the longest path.
func slowest(p *inspect.Preview) *graph.Task {
	var best *graph.Task
	took := map[*graph.Task]float64{}
	for _, x := range p.Tasks {
		took[x.Task] = x.Seconds
	}
	for _, t := range p.Path {
		if best == nil || took[t] > took[best] {
			best = t
		}
	}
	return best
}

func (a *app) planRow(x *inspect.Expected) []string {
	took := ""
	switch {
	case x.Outcome == decide.Ran || x.Outcome == decide.MayRun:
		took = "?"
		if x.Seconds > 0 {
			took = "~" + seconds(x.Seconds)
		}
	case x.Size > 1:
		took = bytesText(x.Size)
	}
	what := some(x.Changes)
	what = strings.TrimPrefix(what, ": ")
	switch {
	case x.Outcome == decide.Failed:
		what = firstLine(x.Message)
	case x.Outcome == decide.MayRun && x.Reason == "":
		what = "unless " + list3(addrs(x.On)) + sameWord(len(x.On))
	case x.Outcome == decide.MayRun:
		what = strings.TrimPrefix(what+"; depends on "+list3(addrs(x.On)), "; ")
	case x.MadeBy != nil:
		what = fmt.Sprintf("built by %s at %s, %s", x.MadeBy.Name, x.MadeBy.Place, clock(x.MadeBy.At, a.now()))
	}
	reason := string(x.Reason)
	if x.Outcome == decide.MayRun && reason == "" {
		reason = string(key.Upstream)
	}
	return []string{a.tint(x.Outcome, pad(verbs[x.Outcome], 7)), x.Task.Addr(), reason, what, took}
}

func sameWord(n int) string {
	if n == 1 {
		return " produces the same outputs"
	}
	return " produce the same outputs"
}

func list3(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:2], ", "), len(names)-2)
	}
	return strings.Join(names, ", ")
}

// bytesText formats a size: 41 MB.
func bytesText(n int64) string {
	v, unit := float64(n), 0
	for v >= 1000 && unit < 4 {
		v, unit = v/1000, unit+1
	}
	if unit == 0 || v >= 9.95 {
		return fmt.Sprintf("%.0f %s", v, []string{"B", "kB", "MB", "GB", "TB"}[unit])
	}
	return fmt.Sprintf("%.1f %s", v, []string{"B", "kB", "MB", "GB", "TB"}[unit])
}

func (a *app) planLegend(p *inspect.Preview, seen map[key.Reason]bool) {
	for _, x := range p.Tasks {
		if x.Outcome == decide.MayRun && x.Reason == "" {
			seen[key.Upstream] = true
		}
	}
	lines := []string{}
	if len(p.Path) > 1 {
		lines = append(lines, "longest     "+strings.Join(addrs(p.Path), " → "))
	}
	for _, r := range key.Order {
		if !seen[r] {
			continue
		}
		text := key.Legend[r]
		if r == key.Upstream {
			text = "the outputs of a dependency changed, or may change"
		}
		lines = append(lines, fmt.Sprintf("%-11s %s", r, text))
	}
	if when := compared(p); when != "" && len(seen) > 0 {
		lines = append(lines, when)
	}
	if len(lines) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	for _, l := range lines {
		fmt.Fprintln(a.out, fit(a.soft(l), a.width()))
	}
}

// compared says which runs the tasks that would run are compared with.
func compared(p *inspect.Preview) string {
	runs := map[string]time.Time{}
	for _, x := range p.Tasks {
		if (x.Outcome == decide.Ran || x.Outcome == decide.MayRun) && x.Compared != nil {
			runs[x.Compared.Run] = x.Compared.At
		}
	}
	if len(runs) == 0 {
		return ""
	}
	ids := []string{}
	for id := range runs {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(x, y string) int { return runs[y].Compare(runs[x]) })
	out := fmt.Sprintf("compared with run %s of %s", ids[0], clock(runs[ids[0]], time.Now()))
	if len(ids) > 1 {
		out += fmt.Sprintf(", and %s", counted(len(ids)-1, "older run", "older runs"))
	}
	return out + "; ~ marks durations of earlier runs"
}
