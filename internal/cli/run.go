package cli

import (
	"context"
	"encoding/base32"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/schedule"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/term"
)

// runFlags are the flags of commands that run tasks or predict it.
type runFlags struct {
	choice
	selection
	jobs      int
	noReuse   bool
	noWait    bool
	keepGoing bool
	offline   bool
	fetch     string
	part      string
	join      string // the run of several machines that this one is a part of
	logs      string
	reports   []string // KIND=FILE
	extra     []string // arguments after "--"
}

func (a *app) runCommand() *cobra.Command {
	var f runFlags
	c := &cobra.Command{
		Use: "run TASK…", Short: "Run tasks and their dependencies, reusing cached results",
		Example: "  grayloft run build test\n  grayloft run test@fares\n  grayloft run --pick 'affected and not tag:slow'",
		RunE: func(cmd *cobra.Command, args []string) error {
			args, f.extra = behindDash(cmd, args)
			return a.run(cmd.Context(), f, args)
		},
	}
	f.sharedFlags(c)
	f.workFlags(c)
	fl := c.Flags()
	fl.BoolVar(&f.noReuse, "no-reuse", false, "run everything, even if a result could be reused")
	fl.StringVar(
		&f.part,
		"part",
		"",
		"this runner's share of the tasks, such as 2/5: the second of five, balanced by their durations",
	)
	fl.StringVar(&f.join, "join", "", "make one run of all machines that give the same name here: they divide the tasks among them")
	fl.StringArrayVar(
		&f.reports,
		"report",
		nil,
		"write a report: html=FILE (one page), junit=FILE or trace=FILE (for trace viewers); may be repeated",
	)
	fl.StringVar(&f.logs, "logs", "", "live, whole, failures or none (default: failures on a terminal, else whole)")
	return c
}

// sharedFlags are those of every command that settles tasks or predicts it:
// which tasks, with which settings, and what may be asked of the service.
func (f *runFlags) sharedFlags(c *cobra.Command) {
	f.selection.flags(c)
	f.choice.flags(c)
	c.Flags().StringVar(
		&f.fetch,
		"fetch",
		string(decide.FetchNeeded),
		"what to transfer from the cache: needed (outputs you asked for, and what a task that runs "+
			"will read), all (every output of the plan), or none (only what a task that runs will read)",
	)
	c.Flags().BoolVar(&f.offline, "offline", false, "do not ask the service")
}

// workFlags are those of every command that runs tasks.
func (f *runFlags) workFlags(c *cobra.Command) {
	fl := c.Flags()
	fl.IntVarP(&f.jobs, "jobs", "j", runtime.NumCPU(), "maximum number of tasks that run at the same time")
	fl.BoolVar(&f.noWait, "no-wait", false, "run tasks here even if another machine runs them now")
	fl.BoolVarP(&f.keepGoing, "keep-going", "k", false, "after a failure, continue with tasks that do not depend on it")
}

func (f *runFlags) check() error {
	if f.jobs < 1 {
		return wrong("--jobs must be at least 1")
	}
	if f.part != "" {
		if _, err := schedule.ParsePart(f.part); err != nil {
			return wrong("--part %v", err)
		}
	}
	for _, v := range []struct {
		flag, val string
		among     []string
	}{
		{"--logs", f.logs, logsValues}, {"--fetch", f.fetch, fetchValues},
	} {
		if v.val != "" && !slices.Contains(v.among, v.val) {
			return wrong("%s %q is not valid: %s", v.flag, v.val, strings.Join(v.among, ", "))
		}
	}
	return nil
}

// The values of --logs and --fetch.
var (
	logsValues  = []string{string(term.LogsLive), string(term.LogsWhole), string(term.LogsFailures), string(term.LogsNone)}
	fetchValues = []string{string(decide.FetchNeeded), string(decide.FetchAll), string(decide.FetchNone)}
)

// options are what the flags say to the engine.
func (a *app) options(f runFlags, picked []*graph.Task, kill <-chan struct{}) engine.Options {
	return engine.Options{
		Run: newRunID(
			a.now(),
		), Picked: picked, Jobs: f.jobs, KeepGoing: f.keepGoing, NoReuse: f.noReuse, NoWait: f.noWait,
		Follow: f.logs == string(term.LogsLive), Args: f.extra,
		Fetch: decide.Fetch(f.fetch), Grace: 5 * time.Second, Kill: kill,
	}
}

// chosen loads the repository with the chosen settings, and selects its tasks.
func (a *app) chosen(
	ctx context.Context,
	load func(context.Context) (*repository, error),
	f runFlags,
	args []string,
) (*repository, []*graph.Task, error) {
	r, err := load(ctx)
	if err != nil {
		return nil, nil, err
	}
	if err := f.choice.apply(r); err != nil {
		return nil, nil, err
	}
	picked, err := a.selected(ctx, r, f.selection, args)
	return r, picked, err
}

func (a *app) run(ctx context.Context, f runFlags, args []string) error {
	if err := f.check(); err != nil {
		return err
	}
	reports, err := parseReports(f.reports)
	if err != nil {
		return err
	}
	r, picked, err := a.chosen(ctx, a.loadAhead, f, args)
	if err != nil {
		return err
	}
	ctx, kill, stop := interrupts(ctx)
	defer stop()
	process.Prepare()
	s, err := a.open(ctx, r, f.offline)
	if err != nil {
		return err
	}
	defer s.Close()
	if f.part != "" {
		if picked, err = s.part(ctx, f.part, picked); err != nil {
			return err
		}
	}
	opt := a.options(f, picked, kill)
	if opt.Join, err = a.joins(ctx, s, f, opt); err != nil {
		return err
	}
	requested := f.selection.requested(args)
	view := a.NewView(term.ViewOptions{
		Title: strings.Join(
			requested,
			" ",
		), Tasks: r.graph.Closure(picked), Jobs: f.jobs, Logs: term.Logs(f.logs), Seconds: s.lastSeconds,
	})
	defer view.Close()
	rec := a.observe(s, view, opt, requested)
	opt.Begun = func() { s.head() } // the record of the run has it

	// The person sees the result before the last upload ends.
	sharing := func() {}
	opt.Settled = func(sum *engine.Summary) {
		view.Close()
		a.say(sum)
		sharing = a.sharing()
	}
	began := time.Now()
	sum, err := s.engine.Run(ctx, opt)
	rec.finish(sum, time.Since(began))
	if err := a.remember(s, opt.Run, sum, requested); err != nil {
		view.Warn(err.Error())
	}
	sharing()
	view.Close()
	var unwritten error
	if sum != nil && (len(reports) > 0 || exportsSpans()) {
		unwritten = a.writeAll(context.WithoutCancel(ctx), s, reports, s.describe(began, opt, requested), sum)
	}
	switch {
	case err != nil && ctx.Err() != nil:
		return errInterrupted
	case err != nil:
		return err
	}
	return a.conclude(a.report(opt, sum), unwritten)
}

// remember saves what later commands are to know of a run, if it has a summary.
func (a *app) remember(s *session, run string, sum *engine.Summary, requested []string) error {
	if sum == nil {
		return nil
	}
	var saving sync.WaitGroup
	saving.Go(func() { _ = s.engine.Files.Memory.Save(s.engine.State.DigestFile()) })
	defer saving.Wait()
	return s.engine.State.Remember(s.past(a.now(), run, sum, requested))
}

// conclude returns which of two outcomes of a run holds: a report that could not
// be written is more serious than a failed task, and less than an interrupt.
func (a *app) conclude(outcome, unwritten error) error {
	if unwritten == nil {
		return outcome
	}
	if code, _ := exitOf(outcome); outcome != nil && code == exitInterrupted {
		_, message := exitOf(unwritten)
		fmt.Fprintln(a.Err, message)
		return outcome
	}
	return unwritten
}

// observe sends the events of the run to the view and, if there is a service, to
// its record.
func (a *app) observe(s *session, view term.View, opt engine.Options, requested []string) *recording {
	s.watchedBy(view)
	if s.client == nil {
		return nil
	}
	rec := s.record(a.now(), opt, requested)
	s.engine.Observer = both{view, rec}
	return rec
}

// lastSeconds returns the last duration of a task here, if it is known.
func (s *session) lastSeconds(t *graph.Task) (float64, bool) {
	last, ok := s.engine.State.Last(t.Addr())
	return last.Took, ok && last.Took > 0
}

// part returns this runner's share of the picked tasks. All runners must divide
// in the same way, so they get the durations of tasks from the service; without
// a service, every task counts the same.
func (s *session) part(ctx context.Context, text string, picked []*graph.Task) ([]*graph.Task, error) {
	part, err := schedule.ParsePart(text)
	if err != nil {
		return nil, wrong("--part %v", err)
	}
	seconds := map[string]float64{}
	if s.client != nil {
		commit, _ := s.head()
		s.client.Insist()
		seconds, err = s.client.Parts(ctx, schedule.DivisionID(picked, commit, part.Of), term.Addresses(s.graph.Closure(picked)))
		if err != nil {
			return nil, machineFault(
				"--part: the runners agree through the service who runs what, but the service cannot be asked: %v.\n"+
					"Give all of them --offline to divide by the number of tasks instead, or run without --part.",
				err,
			)
		}
	}
	parts := schedule.Parts(picked, part.Of, func(t *graph.Task) (float64, bool) {
		s, ok := seconds[t.Addr()]
		return s, ok
	})
	return parts[part.Which-1], nil
}

// newRunID returns an id that sorts by time: a version 7 UUID (RFC 9562) in
// base 32, whose first characters differ between runs a second apart.
func newRunID(now time.Time) string {
	id, err := uuid.NewV7()
	if err != nil {
		panic(err) // the system has no random numbers
	}
	if ms := now.UnixMilli(); time.Until(now).Abs() > time.Second { // the clock is moved
		for i := range 6 {
			id[i] = byte(ms >> (40 - 8*i))
		}
	}
	return strings.ToLower(base32.HexEncoding.WithPadding(base32.NoPadding).EncodeToString(id[:]))
}

// now is the time for records: GRAYLOFT_CLOCK_OFFSET moves it, for
// demonstrations and tests. It does not affect measurements.
func (a *app) now() time.Time {
	offset, _ := time.ParseDuration(os.Getenv("GRAYLOFT_CLOCK_OFFSET"))
	return time.Now().Add(offset)
}
