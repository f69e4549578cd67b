package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/protocol"
)

func (a *app) logCommand() *cobra.Command {
	var run string
	var offline bool
	c := &cobra.Command{
		Use: "log TASK", Short: "Print the log of a task's last run, or of the run that made its outputs",
		Long: "A log that is not in this machine's cache comes from the service.",
		Args: words(1, 1, "one task, such as test@fares"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			t, err := a.oneTask(cmd.Context(), r, "log", args[0])
			if err != nil {
				return err
			}
			s, err := a.open(cmd.Context(), r, offline)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.log(cmd.Context(), s, t, run)
		},
	}
	c.Flags().StringVar(&run, "run", "", "the log of this run instead: of this checkout (see grayloft history) or of the service")
	c.Flags().BoolVar(&offline, "offline", false, "do not ask the service")
	return c
}

func (a *app) log(ctx context.Context, s *session, t *graph.Task, run string) error {
	s.watchedBy(a.SilentView())
	d, err := s.logDigest(ctx, t, run)
	if err != nil {
		return err
	}
	archive, err := s.archive()
	if err != nil {
		return err
	}
	text, err := archive.Read(ctx, d)
	if err != nil {
		return machineFault("the log of %s is not on this machine, and %s", t.Addr(), s.whyNotFetched(err))
	}
	lines := tasklog.Parse(text)
	if a.Format == "json" {
		return a.JSON(lines)
	}
	for _, l := range lines {
		fmt.Fprintln(a.Out, a.PrintableLog(l.Text))
	}
	if len(lines) == 0 && !a.Quiet {
		fmt.Fprintf(a.Err, "%s printed nothing.\n", t.Addr())
	}
	return nil
}

// whyNotFetched says why the service did not help with a blob.
func (s *session) whyNotFetched(err error) string {
	switch {
	case s.client == nil:
		return "no service was asked"
	case errors.Is(err, protocol.ErrGone):
		return "the service does not have it any more, or may not give it to you"
	}
	return err.Error()
}

// logDigest is the digest of a task's log, in its last run here or another one.
func (s *session) logDigest(ctx context.Context, t *graph.Task, run string) (digest.Digest, error) {
	if run == "" {
		last, ok := s.engine.State.Last(t.Addr())
		if !ok || last.Log.IsZero() {
			return last.Log, wrong("%s has not run in this checkout: grayloft run %s", t.Addr(), t.Addr())
		}
		return last.Log, nil
	}
	p, err := pastRun(s.engine.State, run)
	if err != nil && s.client != nil {
		return s.logOnService(ctx, t, run)
	}
	if err != nil {
		return digest.Digest{}, err
	}
	x, ok := p.Of(t.Addr())
	if !ok || x.Log.IsZero() {
		return digest.Digest{}, wrong("%s printed nothing in run %s: it did not run there", t.Addr(), p.ID)
	}
	return x.Log, nil
}

// logOnService is the digest of a log of a run that this checkout does not know.
func (s *session) logOnService(ctx context.Context, t *graph.Task, run string) (digest.Digest, error) {
	d, err := s.client.TaskOfRun(ctx, run, t.Addr())
	if err != nil {
		return digest.Digest{}, &inspect.ServiceError{Lacks: fmt.Sprintf("no run of this checkout starts with %q", run), Err: err}
	}
	if d.Record.Log.IsZero() {
		return digest.Digest{}, wrong("%s has no log in run %s", t.Addr(), run)
	}
	return d.Record.Log, nil
}
