package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/remote"
)

// forgottenJSON is what cache forget prints as JSON.
type forgottenJSON struct {
	Task    string `json:"task"`
	Key     string `json:"key"`
	Listing string `json:"listing"`
	// Shelf is the one of the service from which it was removed; empty: from none.
	Shelf string `json:"shelf"`
}

func (a *app) cacheForget() *cobra.Command {
	return &cobra.Command{
		Use: "forget TASK", Short: "Withdraw a wrong result, so that it is never used again",
		Long: "Withdraws the last result of a task in this checkout: no run on this machine uses these outputs under the\n" +
			"same key again, wherever they come from. With a service, they are removed from the shelf that your token writes\n" +
			"to as well. The next run executes the task. Results of other inputs stay.",
		Example: "  grayloft cache forget package@booking",
		Args:    words(1, 1, "one task, such as build@fares"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			r, err := a.load(ctx)
			if err != nil {
				return err
			}
			t, err := a.oneTask(ctx, r, "cache forget", args[0])
			if err != nil {
				return err
			}
			state, err := checkout.Open(r.root)
			if err != nil {
				return machineFault("%v", err)
			}
			defer state.Close()
			last, ok := state.Last(t.Addr())
			if !ok || last.Key.IsZero() || last.Listing.IsZero() {
				return wrong("%s has no result in this checkout that could be reused: run it first", t.Addr())
			}
			st, err := openStore()
			if err != nil {
				return err
			}
			if err := st.Withdraw(last.Key, last.Listing); err != nil {
				return machineFault("%v", err)
			}
			shelf := a.forgetShared(ctx, r, st, last)
			if a.Format == "json" {
				return a.JSON(forgottenJSON{t.Addr(), last.Key.String(), last.Listing.String(), shelf})
			}
			if shelf != "" {
				fmt.Fprintf(a.Out, "It was removed from the shelf %s of the service.\n", shelf)
			}
			fmt.Fprintf(a.Out, "This machine does not use this result of %s again. The next run executes the task.\n", t.Addr())
			return nil
		},
	}
}

// forgetShared withdraws a result from the shelf that the person's token writes to, and returns the
// shelf if it had the result.
func (a *app) forgetShared(ctx context.Context, r *repository, st *store.Store, last checkout.Record) string {
	client, _ := a.client(r, st)
	if client == nil {
		return ""
	}
	done, err := client.Withdraw(ctx, last.Key, last.Listing)
	switch {
	case err != nil:
		fmt.Fprintf(a.Err, "warning: the service %s, so a shared result may still be there: forget it again later\n", remote.Explain(err))
	case done.Removed:
		return done.Shelf
	}
	return ""
}
