package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/machine/share"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) cacheShare() *cobra.Command {
	return &cobra.Command{
		Use: "share", Short: "Upload the results that this machine made without a service", Args: noArgs,
		Long: "Uploads the results of this repository that were made on this machine while no service was used, such as\n" +
			"before grayloft login. Results that may not be shared (no probes declared, a secret in an output) stay here.",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.shareEarlier(cmd.Context()) },
	}
}

func (a *app) shareEarlier(ctx context.Context) error {
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	st, err := openStore()
	if err != nil {
		return err
	}
	client, url := a.client(r, st)
	if client == nil {
		return wrong("no service is known for %s: grayloft login URL", r.graph.Repo.Name)
	}
	ctx, _, stop := interrupts(ctx)
	defer stop()
	client.Warn = a.SilentView().Warn
	self, err := client.Self(ctx)
	if err != nil {
		return machineFault("the service at %s does not answer, so nothing was shared", url)
	}
	if self.WritesTo == "" {
		return wrong("the token %q writes to no shelf, so nothing was shared", self.Name)
	}
	entries, err := st.Shareable(r.graph.Repo.Name)
	if err != nil {
		return err
	}
	report, err := share.Earlier(ctx, st, client, entries)
	switch {
	case ctx.Err() != nil:
		return exit{
			exitInterrupted,
			fmt.Sprintf("interrupted; %s shared until then", amount.Count(report.Shared, "result was", "results were")),
		}
	case err != nil:
		return machineFault("after %s: %v", amount.Count(report.Shared, "result", "results"), err)
	case a.Format == "json":
		return a.JSON(report)
	}
	a.printShared(url, report)
	return nil
}

func (a *app) printShared(url string, report share.Report) {
	fmt.Fprintf(a.Out, "Shared %s (%s) with %s", amount.Count(report.Shared, "result", "results"), term.Size(report.Bytes), url)
	for _, rest := range []struct {
		n    int
		text string
	}{
		{report.Present, "the service already had %d"},
		{report.Differ, "it has other outputs for %d, which stay"},
		{report.Incomplete, "%d are no longer complete in this machine's cache"},
	} {
		if rest.n > 0 {
			fmt.Fprintf(a.Out, "; "+rest.text, rest.n)
		}
	}
	fmt.Fprintln(a.Out, ".")
}

// mentionEarlier says after a login what could be shared.
func (a *app) mentionEarlier(r *repository) {
	st, err := openStore()
	if err != nil {
		return // every command that uses the cache reports it
	}
	entries, err := st.Shareable(r.graph.Repo.Name)
	if err != nil || len(entries) == 0 {
		return
	}
	fmt.Fprintf(
		a.Out,
		"This machine has %s from before, which others can use after: grayloft cache share\n",
		amount.Count(len(entries), "result", "results"),
	)
}
