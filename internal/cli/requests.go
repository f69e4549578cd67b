package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/translate"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) requestsCommand() *cobra.Command {
	var cancel, watch, open, plan bool
	var limit int
	c := &cobra.Command{
		Use: "requests [ID]", Short: "List requested runs, or show, follow or cancel one",
		Example: "  grayloft requests\n  grayloft requests 12 --watch\n  grayloft requests 12 --cancel",
		Args:    words(0, 1, "the number of one request"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			r, err := a.load(ctx)
			if err != nil {
				return err
			}
			client, err := a.fleetClient(r, nil)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				if cancel || watch || plan {
					return wrong("which request? Give its number: grayloft requests 12 --watch")
				}
				return a.listRequests(ctx, client, open, limit)
			}
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return wrong("%q is not the number of a request: see grayloft requests", args[0])
			}
			switch {
			case cancel:
				if err := client.CancelRequest(ctx, id); err != nil {
					return a.serviceRefused(err)
				}
				fmt.Fprintf(a.Out, "Request %d is cancelled.\n", id)
				return nil
			case watch:
				return a.watchRequest(ctx, client, id)
			case plan:
				return a.showRequestPlan(ctx, client, id)
			}
			return a.showRequest(ctx, client, id)
		},
	}
	f := c.Flags()
	f.BoolVar(&cancel, "cancel", false, "end it: what waits is not started, what runs is stopped")
	f.BoolVarP(&watch, "watch", "w", false, "follow it, and exit as it ends")
	f.BoolVar(&plan, "plan", false, "print the plan of a preview as JSON")
	f.BoolVar(&open, "open", false, "list only those that wait or run")
	f.IntVarP(&limit, "limit", "n", 20, "maximum number, newest first")
	return c
}

func (a *app) listRequests(ctx context.Context, client *remote.Client, open bool, limit int) error {
	query := url.Values{"limit": {strconv.Itoa(min(max(limit, 1), 200))}, "open": {strconv.FormatBool(open)}}
	page, err := client.Requests(ctx, query)
	if err != nil {
		return a.serviceRefused(err)
	}
	if a.Format == "json" {
		return a.JSON(page.Requests)
	}
	if len(page.Requests) == 0 {
		fmt.Fprintln(a.Out, "No request: grayloft request TASK")
		return nil
	}
	rows := [][]string{}
	for _, q := range page.Requests {
		rows = append(rows, []string{
			strconv.FormatInt(
				q.ID,
				10,
			), term.Clock(q.At, a.now()), stateText(q), tookText(q), q.Name, q.Ask.Pool, whatText(q.Ask), revisionText(q.Ask),
		})
	}
	a.Table([]string{"request", "when", "state", "took", "by", "pool", "what", "revision"}, rows)
	return nil
}

// stateText is the state of a request, and how many wait before it.
func stateText(q protocol.Request) string {
	if q.Ahead > 0 {
		return fmt.Sprintf("%s, %d before it", q.State, q.Ahead)
	}
	return string(q.State)
}

func tookText(q protocol.Request) string {
	if q.Started == nil || q.Ended == nil {
		return ""
	}
	return term.Seconds(q.Ended.Sub(*q.Started).Seconds())
}

func whatText(a protocol.Ask) string {
	words := append([]string{}, a.Tasks...)
	if a.Pick != "" {
		words = append(words, "--pick", translate.Quoted(a.Pick))
	}
	if a.Since != "" {
		words = append(words, "--since", translate.Quoted(a.Since))
	}
	if a.Preview {
		words = append(words, "(preview)")
	}
	return strings.Join(words, " ")
}

func revisionText(a protocol.Ask) string {
	text := a.Branch
	if a.Commit != "" {
		text = strings.TrimSpace(fmt.Sprintf("%s %.8s", text, a.Commit))
	}
	if a.Changes != nil {
		text += " + " + amount.Count(a.Changes.Files, "file", "files")
	}
	return text
}

func (a *app) showRequest(ctx context.Context, client *remote.Client, id int64) error {
	q, err := client.RequestOf(ctx, id)
	if err != nil {
		return a.serviceRefused(err)
	}
	if a.Format == "json" {
		return a.JSON(q)
	}
	fmt.Fprintf(a.Out, "Request %d of %s %s: %s at %s, pool %s, results go to %s.\n", q.ID, q.Name, endOrState(q), whatText(q.Ask),
		revisionText(q.Ask), q.Ask.Pool, q.Shelf)
	rows := [][]string{}
	for _, j := range q.Jobs {
		took := ""
		if j.Started != nil {
			end := time.Now()
			if j.Ended != nil {
				end = *j.Ended
			}
			took = term.Seconds(end.Sub(*j.Started).Seconds())
		}
		rows = append(rows, []string{strconv.Itoa(j.Member), string(j.State), strconv.Itoa(j.Attempt), j.Runner, took, j.Run, j.Message})
	}
	a.Table([]string{"job", "state", "attempt", "runner", "took", "run", "message"}, rows)
	return nil
}

func endOrState(q protocol.Request) string {
	if q.State.HasEnded() {
		return endWord(q)
	}
	return "is " + stateText(q)
}

// showRequestPlan prints the plan of a preview.
func (a *app) showRequestPlan(ctx context.Context, client *remote.Client, id int64) error {
	text, err := client.PlanOf(ctx, id)
	if err != nil {
		return a.serviceRefused(err)
	}
	_, err = fmt.Fprintln(a.Out, string(text))
	return err
}
