package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/advice"
	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/past"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/term"
)

// lookBack are the flags of commands about what happened.
type lookBack struct {
	weeks   int
	offline bool
}

func (l *lookBack) flags(c *cobra.Command) {
	c.Flags().IntVar(&l.weeks, "weeks", 13, "how far back, the current week included")
	c.Flags().BoolVar(&l.offline, "offline", false, "use this machine's history instead of the service's records")
}

func (l *lookBack) check() error {
	if l.weeks < 1 || l.weeks > 530 {
		return wrong("--weeks must be a number from 1 to 530")
	}
	return nil
}

// memory is where a command about what happened finds its answers: the service,
// or, without one, this machine's history.
type memory struct {
	*session
	client *remote.Client // nil: there is no service
	past   past.History
}

// recall opens the memory. A service that does not answer, or whose token may not
// view records, is replaced by this machine's history, with a sentence.
func (a *app) recall(ctx context.Context, l lookBack) (*memory, error) {
	if err := l.check(); err != nil {
		return nil, err
	}
	r, err := a.load(ctx)
	if err != nil {
		return nil, err
	}
	s, err := a.open(ctx, r, l.offline)
	if err != nil {
		return nil, err
	}
	runs, err := s.engine.State.History()
	if err != nil {
		s.Close()
		return nil, err
	}
	m := &memory{session: s, client: s.client, past: past.History{Runs: runs, Graph: r.graph, Place: "this machine", Now: a.now()}}
	if m.client != nil {
		m.client.Warn = func(string) {} // said below
	}
	return m, nil
}

// withoutService says why the service was not used, and goes on without it.
func (a *app) withoutService(m *memory, err error) {
	fmt.Fprintf(a.Err, "The service is not used (%s): this is about this checkout alone.\n", remote.Explain(err))
	m.client = nil
}

func (a *app) statsCommand() *cobra.Command {
	var l lookBack
	var limit int
	c := &cobra.Command{
		Use: "stats [TASK]", Short: "Say where time goes and what is reused: of all tasks, or of one place by place",
		Example: "  grayloft stats\n  grayloft stats test@fares --weeks 53", Args: words(0, 1, "one task"),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := a.recall(cmd.Context(), l)
			if err != nil {
				return err
			}
			defer m.Close()
			if len(args) == 1 {
				return a.taskStats(cmd.Context(), m, l, args[0])
			}
			return a.allStats(cmd.Context(), m, l, limit)
		},
	}
	l.flags(c)
	c.Flags().IntVarP(&limit, "limit", "n", 20, "maximum number of tasks")
	return c
}

func (a *app) allStats(ctx context.Context, m *memory, l lookBack, limit int) error {
	limit = min(max(limit, 1), 500)
	var page protocol.TaskPage
	if m.client != nil {
		var err error
		if page, err = m.client.Tasks(ctx, l.weeks, limit); err != nil {
			a.withoutService(m, err)
		}
	}
	if m.client == nil {
		page = m.past.Tasks(l.weeks)
		page.Tasks = page.Tasks[:min(limit, len(page.Tasks))]
	}
	if a.Format == "json" {
		return a.JSON(page)
	}
	if len(page.Tasks) == 0 {
		fmt.Fprintln(a.Out, "Nothing is recorded in this time: grayloft run TASK")
		return nil
	}
	rows := [][]string{}
	for _, t := range page.Tasks {
		rows = append(rows, []string{
			t.Task, term.Seconds(t.RunSeconds), fmt.Sprint(t.Executed), meanOf(t), rateOf(t.HitRate), term.Seconds(t.SavedSeconds),
			orDash(t.Failed), orDash(t.SameOutputs),
		})
	}
	fmt.Fprintf(a.Out, "%s since %s, by time spent.\n\n", amount.Count(page.Total, "task", "tasks"), page.Since.Format("2 Jan 2006"))
	a.Table([]string{"task", "time spent", "executed", "mean", "hit rate", "saved", "failed", "same outputs"}, rows)
	return nil
}

func meanOf(t protocol.TaskRow) string {
	if t.Executed == 0 {
		return "–"
	}
	return term.Seconds(t.MeanSeconds)
}

func rateOf(rate *float64) string {
	if rate == nil {
		return "–"
	}
	return fmt.Sprintf("%.0f %%", 100**rate)
}

func orDash(n int64) string {
	if n == 0 {
		return "–"
	}
	return fmt.Sprint(n)
}

func (a *app) taskStats(ctx context.Context, m *memory, l lookBack, name string) error {
	t, err := a.oneTask(ctx, m.repository, "stats", name)
	if err != nil {
		return err
	}
	if m.client != nil {
		b, err := m.client.Task(ctx, t.Addr(), l.weeks)
		if err == nil {
			return a.printBehaviour(b)
		}
		a.withoutService(m, err)
	}
	b := protocol.TaskBehaviour{Weeks: l.weeks, Advice: []advice.Finding{}}
	b.Task = t.Addr()
	page := m.past.Tasks(l.weeks)
	b.Since = page.Since
	for _, row := range page.Tasks {
		if row.Task == b.Task {
			b.TaskRow = row
		}
	}
	for _, f := range m.past.Advise(l.weeks).Findings {
		if f.Task == b.Task {
			b.Advice = append(b.Advice, f)
		}
	}
	return a.printBehaviour(b)
}

func (a *app) printBehaviour(b protocol.TaskBehaviour) error {
	if a.Format == "json" {
		return a.JSON(b)
	}
	fmt.Fprintf(a.Out, "%s: executed %s, %s each; reused %s, which saved %s. Since %s.\n", a.Bold(b.Task),
		amount.Count(int(b.Executed), "time", "times"), meanOf(b.TaskRow), amount.Count(int(b.Reused), "time", "times"),
		term.Seconds(b.SavedSeconds), b.Since.Format("2 Jan 2006"))
	if len(b.Places) > 0 {
		fmt.Fprintln(a.Out)
		rows := [][]string{}
		for _, p := range b.Places {
			rows = append(rows, []string{p.Place, timesOf(p.Run), timesOf(p.Fetch), p.Says})
		}
		a.Table([]string{"place", "running", "fetching", "verdict"}, rows)
	}
	if reasons := reasonsOf(b.Reasons); len(reasons) > 0 {
		fmt.Fprintln(a.Out)
		a.Table([]string{"why it ran", "times", ""}, reasons)
	}
	a.printCauses(b.Causes)
	a.printFindings(b.Advice)
	return nil
}

func timesOf(t protocol.Times) string {
	if t.N == 0 {
		return "–"
	}
	return fmt.Sprintf("%s (%d)", term.Seconds(t.Median), t.N)
}

func reasonsOf(list []protocol.ReasonCount) [][]string {
	sums := map[string]int{}
	for _, r := range list {
		sums[r.Reason] += r.N
	}
	rows := [][]string{}
	for _, r := range key.Order {
		if n := sums[string(r)]; n > 0 {
			rows = append(rows, []string{string(r), fmt.Sprint(n), key.Legend[r]})
		}
	}
	return rows
}

const shownCauses = 10

func (a *app) printCauses(list []protocol.CauseRow) {
	if len(list) == 0 {
		return
	}
	rows := [][]string{}
	for _, c := range list[:min(len(list), shownCauses)] {
		rows = append(rows, []string{c.Path, fmt.Sprint(c.Reruns), sameOutputs(c)})
	}
	fmt.Fprintln(a.Out)
	a.Table([]string{"file that caused reruns", "reruns", "same outputs"}, rows)
}

func sameOutputs(c protocol.CauseRow) string {
	if c.Judged == 0 {
		return "no outputs"
	}
	return fmt.Sprintf("%.0f %%", 100*float64(c.SameOutputs)/float64(c.Judged))
}

func (a *app) printFindings(list []advice.Finding) {
	for _, f := range list {
		fmt.Fprintf(a.Out, "\n%s\n", a.Bold(sentence(f.Says)))
		for _, e := range f.Evidence {
			fmt.Fprintln(a.Out, "  "+sentence(e))
		}
		where := ""
		if f.At != "" {
			where = " (" + f.At + ")"
		}
		fmt.Fprintf(a.Out, "  To do: %s%s\n", f.Change, where)
	}
}

// sentence makes a sentence of a clause.
func sentence(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:] + "."
}

func (a *app) adviseCommand() *cobra.Command {
	var l lookBack
	var strict bool
	c := &cobra.Command{
		Use: "advise", Short: "Say which declarations are worth changing, with the evidence and the line",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := a.recall(cmd.Context(), l)
			if err != nil {
				return err
			}
			defer m.Close()
			return a.advise(cmd.Context(), m, l, strict)
		},
	}
	l.flags(c)
	c.Flags().BoolVar(&strict, "strict", false, "exit with 1 if there is any advice, for CI")
	return c
}

func (a *app) advise(ctx context.Context, m *memory, l lookBack, strict bool) error {
	var page protocol.AdvicePage
	if m.client != nil {
		var err error
		if page, err = m.client.Advice(ctx, l.weeks); err != nil {
			a.withoutService(m, err)
		}
	}
	if m.client == nil {
		page = m.past.Advise(l.weeks)
	}
	if a.Format == "json" {
		if err := a.JSON(page); err != nil {
			return err
		}
	} else {
		a.printAdvice(page)
	}
	if strict && len(page.Findings) > 0 {
		return errFailed
	}
	return nil
}

func (a *app) printAdvice(page protocol.AdvicePage) {
	from := fmt.Sprintf("from %s since %s", amount.Count(page.Runs, "run", "runs"), page.Since.Format("2 Jan 2006"))
	if len(page.Findings) == 0 {
		fmt.Fprintf(a.Out, "Nothing stands out, %s.\n", from)
		return
	}
	fmt.Fprintf(a.Out, "%s, %s.\n", amount.Count(len(page.Findings), "piece of advice", "pieces of advice"), from)
	a.printFindings(page.Findings)
	a.printLegend(page.Findings)
}

func (a *app) printLegend(list []advice.Finding) {
	fmt.Fprintln(a.Out)
	seen := map[advice.Kind]bool{}
	rows := [][]string{}
	for _, f := range list {
		if !seen[f.Kind] {
			seen[f.Kind] = true
			rows = append(rows, []string{string(f.Kind), advice.Legend[f.Kind]})
		}
	}
	a.Table([]string{"kind", "means"}, rows)
}
