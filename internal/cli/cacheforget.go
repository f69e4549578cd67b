package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/machine/checkout"
)

// forgottenJSON is what cache forget prints as JSON.
type forgottenJSON struct {
	Task    string `json:"task"`
	Key     string `json:"key"`
	Listing string `json:"listing"`
}

func (a *app) cacheForget() *cobra.Command {
	return &cobra.Command{
		Use: "forget TASK", Short: "Withdraw a wrong result, so that this machine never uses it again",
		Long: "Withdraws the last result of a task in this checkout: no run on this machine uses these outputs under the\n" +
			"same key again, wherever they come from. The next run executes the task. Results of other inputs stay.",
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
			if a.Format == "json" {
				return a.JSON(forgottenJSON{t.Addr(), last.Key.String(), last.Listing.String()})
			}
			fmt.Fprintf(a.Out, "This machine does not use this result of %s again. The next run executes the task.\n", t.Addr())
			return nil
		},
	}
}
