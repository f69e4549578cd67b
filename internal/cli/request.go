package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	xterm "golang.org/x/term"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/core/pick"
	"grayloft.example/grayloft/internal/machine/clones"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/term"
)

// requestFlags are the flags of a request.
type requestFlags struct {
	choice
	pick, since    string
	pool           string
	branch, commit string
	priority       string
	spread         int
	preview        bool
	noReuse        bool
	keepGoing      bool
	again          bool
	watch          bool
	extra          []string // arguments after "--"
}

var priorities = map[string]int{"high": protocol.PriorityHigh, "normal": protocol.PriorityNormal, "low": protocol.PriorityLow}

func (a *app) requestCommand() *cobra.Command {
	var f requestFlags
	c := &cobra.Command{
		Use: "request TASK…", Short: "Run tasks on the team's runners",
		Long: "Asks the service for a run on runners of a pool: of this checkout with its local changes, which are sent along,\n" +
			"or of a branch or a commit. Files that the repository ignores are not sent.",
		Example: "  grayloft request test --watch\n  grayloft request --pick affected --preview\n" +
			"  grayloft request build test --branch main --pool linux\n  grayloft request --again",
		RunE: func(cmd *cobra.Command, args []string) error {
			args, f.extra = behindDash(cmd, args)
			return a.request(cmd.Context(), f, args)
		},
	}
	f.choice.flags(c)
	fl := c.Flags()
	fl.StringVar(&f.pick, "pick", "", "an expression that selects tasks: 'affected and tag:web'")
	fl.StringVar(&f.since, "since", "", "measure changes against this revision (default: repo.since)")
	fl.StringVar(&f.pool, "pool", "", "the pool of runners (default: the only one that has runners)")
	fl.StringVar(&f.branch, "branch", "", "run the newest commit of this branch instead of this checkout")
	fl.StringVar(&f.commit, "commit", "", "run this commit instead of this checkout")
	fl.StringVar(&f.priority, "priority", "normal", "high, normal or low")
	fl.IntVar(&f.spread, "spread", 1, "number of runners that share the work")
	fl.BoolVar(&f.preview, "preview", false, "show what would run there and why, without running it")
	fl.BoolVar(&f.noReuse, "no-reuse", false, "run everything, even if a result could be reused")
	fl.BoolVarP(&f.keepGoing, "keep-going", "k", false, "after a failure, continue with tasks that do not depend on it")
	fl.BoolVar(&f.again, "again", false, "repeat your last request with its options, for this checkout or the same branch")
	fl.BoolVarP(&f.watch, "watch", "w", false, "follow it, and exit as it ends")
	return c
}

// requester makes a request from a checkout.
type requester struct {
	*app
	*repository
	store  *store.Store
	client *remote.Client
}

func (a *app) request(ctx context.Context, f requestFlags, args []string) error {
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	st, err := openStore()
	if err != nil {
		return err
	}
	client, err := a.fleetClient(r, st)
	if err != nil {
		return err
	}
	client.Warn = func(s string) { fmt.Fprintln(a.Err, "warning: "+s) }
	q := &requester{a, r, st, client}
	ask, err := a.askOf(ctx, r, f, args)
	if err == nil && f.again {
		ask, err = a.lastAsk(ctx, client)
		f.branch = orElse(ask.Commit == "" && ask.Changes == nil, ask.Branch, f.branch)
	}
	if err != nil {
		return err
	}
	if ask.Pool == "" {
		if ask.Pool, err = a.onlyPool(ctx, client); err != nil {
			return err
		}
	}
	if err := q.addRevision(ctx, f, &ask); err != nil {
		return err
	}
	made, err := client.Request(ctx, ask)
	if err != nil {
		return a.serviceRefused(err)
	}
	if f.watch {
		fmt.Fprintf(a.Err, "Request %d waits in the pool %s; its results go to %s.\n", made.ID, ask.Pool, made.Shelf)
		return a.watchRequest(ctx, client, made.ID)
	}
	if a.Format == "json" {
		return a.JSON(made)
	}
	fmt.Fprintf(a.Out, "Request %d waits in the pool %s; its results go to %s. Follow it: grayloft requests %d --watch\n",
		made.ID, ask.Pool, made.Shelf, made.ID)
	return nil
}

// askOf checks the flags against the declarations of this checkout.
func (a *app) askOf(ctx context.Context, r *repository, f requestFlags, args []string) (protocol.Ask, error) {
	ask := protocol.Ask{
		Pool: f.pool, Tasks: args, Pick: f.pick, Since: f.since, Modes: f.modes, Sets: f.sets, Args: f.extra,
		Preview: f.preview, NoReuse: f.noReuse, KeepGoing: f.keepGoing, Spread: f.spread,
	}
	var ok bool
	if ask.Priority, ok = priorities[f.priority]; !ok {
		return ask, wrong("--priority %q is not valid: high, normal or low", f.priority)
	}
	switch {
	case f.again && (len(args) > 0 || f.pick != ""):
		return ask, wrong("--again repeats the tasks of the last request: leave out others")
	case f.again:
		return ask, nil
	case len(args) == 0 && f.pick == "":
		return ask, r.whichTasks()
	case f.spread < 1:
		return ask, wrong("--spread must be at least 1")
	case f.branch != "" || f.commit != "":
		return ask, nil // they may have other tasks and settings
	}
	if err := f.choice.apply(r); err != nil {
		return ask, err
	}
	if f.pick != "" {
		if _, err := pick.Parse(f.pick); err != nil {
			return ask, err
		}
	}
	if len(args) == 0 {
		return ask, nil
	}
	tasks, err := a.byName(r, nil, args)
	if err == nil && f.pick == "" && r.here != "" && r.here != "." {
		ask.Tasks = term.Addresses(tasks) // a runner works at the root, where the names mean more
	}
	return ask, err
}

// lastAsk returns what this person requested last.
func (a *app) lastAsk(ctx context.Context, client *remote.Client) (protocol.Ask, error) {
	self, err := client.Self(ctx)
	if err != nil {
		return protocol.Ask{}, a.serviceRefused(err)
	}
	page, err := client.Requests(ctx, url.Values{"name": {self.Name}, "limit": {"1"}})
	switch {
	case err != nil:
		return protocol.Ask{}, a.serviceRefused(err)
	case len(page.Requests) == 0:
		return protocol.Ask{}, wrong("there is no earlier request of %s to repeat", self.Name)
	}
	return page.Requests[0].Ask, nil
}

// onlyPool returns the pool that has runners, if it is one.
func (a *app) onlyPool(ctx context.Context, client *remote.Client) (string, error) {
	f, err := client.FleetNow(ctx)
	if err != nil {
		return "", a.serviceRefused(err)
	}
	var names []string
	for _, p := range f.Pools {
		if p.Runners > 0 && !p.Protected {
			names = append(names, p.Name)
		}
	}
	switch len(names) {
	case 1:
		return names[0], nil
	case 0:
		return "", wrong("no runner serves this repository now: start one with grayloft runner, or name the --pool that will have one")
	}
	return "", wrong("which pool? Runners serve %s: choose one with --pool", strings.Join(names, ", "))
}

// addRevision says what is to be run: a branch, a commit, or this checkout, whose changes are
// sent.
func (q *requester) addRevision(ctx context.Context, f requestFlags, ask *protocol.Ask) error {
	ask.Branch, ask.Commit, ask.Changes = f.branch, "", nil
	switch {
	case f.commit != "":
		commit, err := q.git.Resolve(ctx, f.commit)
		if err != nil {
			return wrong("--commit %s: this checkout does not have it; give its full id or fetch it", f.commit)
		}
		ask.Commit = commit
		return nil
	case f.branch != "":
		return nil
	}
	file, err := os.CreateTemp("", "grayloft-changes-")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name())
	defer file.Close()
	l, err := clones.Collect(ctx, q.root, protocol.MaxChanges, file)
	var large *clones.TooLargeError
	if errors.As(err, &large) {
		return wrong("%v", err)
	}
	if err != nil {
		return err
	}
	ask.Branch, ask.Commit = l.Branch, l.Commit
	if l.State == "" {
		return nil
	}
	if _, err := file.Seek(0, 0); err != nil {
		return err
	}
	d, size, err := q.store.Copy(file, nil)
	if err != nil {
		return err
	}
	ask.Changes = &protocol.LocalChanges{Blob: d, Bytes: size, State: l.State, Tree: l.Tree, Files: l.Files}
	if err := q.client.SendChanges(ctx, d); err != nil {
		return q.serviceRefused(err)
	}
	fmt.Fprintf(q.Err, "Sent %s (%s).\n", describeLocal(l), term.Size(size))
	return nil
}

func describeLocal(l clones.Local) string {
	var parts []string
	if l.Files > 0 {
		parts = append(parts, amount.Count(l.Files, "changed file", "changed files"))
	}
	if l.Ahead > 0 {
		parts = append(parts, amount.Count(l.Ahead, "commit that is not pushed", "commits that are not pushed"))
	}
	return strings.Join(parts, " and ")
}

// serviceRefused is an error of a command that is about the service.
func (a *app) serviceRefused(err error) error {
	if remote.IsRefusal(err) || errors.Is(err, protocol.ErrGone) {
		return exit{exitWrong, "grayloft: " + strings.TrimPrefix(err.Error(), protocol.ErrGone.Error()+": ")}
	}
	return machineFault("the service %s", remote.Explain(err))
}

// outputWait is how many seconds the service holds a question for output.
const outputWait = 10

// watchRequest prints what a request prints, until it ends, and exits as it did.
func (a *app) watchRequest(ctx context.Context, client *remote.Client, id int64) error {
	inner, _, stop := interrupts(ctx)
	defer stop()
	q, err := client.RequestOf(inner, id)
	if err != nil {
		return a.serviceRefused(err)
	}
	next := 0
	for {
		out, err := client.OutputOf(inner, id, next, outputWait)
		switch {
		case err != nil && inner.Err() != nil:
			return a.leaveOrCancel(client, id)
		case err != nil:
			return a.serviceRefused(err)
		}
		for _, l := range out.Lines {
			if len(q.Jobs) > 1 {
				fmt.Fprintf(a.Out, "%d ", l.Member)
			}
			fmt.Fprintln(a.Out, l.Text)
		}
		next = out.Next
		if out.Ended {
			return a.concludeRequest(ctx, client, id)
		}
	}
}

// concludeRequest says how a request ended.
func (a *app) concludeRequest(ctx context.Context, client *remote.Client, id int64) error {
	q, err := client.RequestOf(ctx, id)
	if err != nil {
		return a.serviceRefused(err)
	}
	for _, j := range q.Jobs {
		if j.Message != "" {
			fmt.Fprintf(a.Err, "%s\n", j.Message)
		}
	}
	fmt.Fprintf(a.Err, "Request %d %s%s.\n", id, endWord(q), where(q))
	switch q.State {
	case fleet.Passed:
		return nil
	case fleet.Lost:
		return exit{exitMachine, ""}
	case fleet.Cancelled:
		return exit{exitInterrupted, ""}
	}
	return errFailed
}

func endWord(q protocol.Request) string {
	switch q.State {
	case fleet.Cancelled:
		return "was cancelled by " + q.CancelledBy
	case fleet.Lost:
		return "is lost: its runners disappeared"
	}
	return string(q.State)
}

// where names the runners of a request.
func where(q protocol.Request) string {
	var names []string
	for _, j := range q.Jobs {
		if j.Runner != "" && !slices.Contains(names, j.Runner) {
			names = append(names, j.Runner)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return " on " + strings.Join(names, ", ")
}

// leaveOrCancel asks, after an interrupt, what becomes of a request.
func (a *app) leaveOrCancel(client *remote.Client, id int64) error {
	left := fmt.Sprintf("Request %d goes on. Follow it: grayloft requests %d --watch; cancel it: grayloft requests %d --cancel", id, id, id)
	if !xterm.IsTerminal(int(os.Stdin.Fd())) {
		return exit{exitInterrupted, left}
	}
	fmt.Fprintf(a.Err, "\nCancel request %d, or leave it running? [c/L] ", id)
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if !strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "c") {
		return exit{exitInterrupted, left}
	}
	if err := client.CancelRequest(context.Background(), id); err != nil {
		return a.serviceRefused(err)
	}
	return exit{exitInterrupted, fmt.Sprintf("Request %d is cancelled.", id)}
}
