package daemon

import (
	"context"
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/announce"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/usage"
)

// announceCommand manages the addresses to which the ends of runs are announced.
func announceCommand(cfg *service.Config) *cobra.Command {
	group := &cobra.Command{
		Use: "announce", Short: "Say which addresses are told when a run ends",
		Long: "A run that has ended is announced as a CloudEvent in JSON, signed after the Standard Webhooks specification, and\n" +
			"again for two days if the receiver fails. Receivers on private networks need grayloftd serve --announce-to.",
		Args: usage.OnlyCommands, RunE: func(cmd *cobra.Command, _ []string) error { return usage.Which(cmd) },
	}
	var repo string
	group.PersistentFlags().StringVar(&repo, "repo", "", "the repository, as in [repo] name")
	_ = group.MarkPersistentFlagRequired("repo")
	type change = func(ctx context.Context, a *announce.Announcer, repository int64) (note records.Audit, err error)
	with := func(cmd *cobra.Command, do change) error {
		return withRecords(cmd.Context(), cfg, func(db *records.DB) error {
			id, err := db.RepositoryID(cmd.Context(), repo)
			if err != nil {
				return err
			}
			note, err := do(cmd.Context(), announce.New(db, nil), id)
			if err == nil && note.Action != "" {
				err = db.NoteCommand(cmd.Context(), repo, note)
			}
			return err
		})
	}
	group.AddCommand(&cobra.Command{
		Use: "add URL", Short: "Add a receiver, and print once the secret that signs what it gets",
		Args:    usage.Words(1, 1, "the address of a receiver"),
		Example: "  grayloftd announce add https://chat.skerry.example/runs --repo skerry",
		RunE: func(cmd *cobra.Command, args []string) error {
			return with(cmd, func(ctx context.Context, a *announce.Announcer, repository int64) (records.Audit, error) {
				_, secret, err := a.Add(ctx, repository, args[0], "")
				if err == nil {
					fmt.Fprintln(cmd.OutOrStdout(), secret)
				}
				return records.Audit{Action: "receiver added", Subject: args[0]}, err
			})
		},
	}, &cobra.Command{
		Use: "list", Short: "List the receivers, and how the last announcement went", Args: usage.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return with(cmd, func(ctx context.Context, a *announce.Announcer, repository int64) (records.Audit, error) {
				list, err := a.Receivers(ctx, repository)
				w := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 4, 2, ' ', 0)
				fmt.Fprintln(w, "id\taddress\tlast announcement")
				for _, r := range list {
					fmt.Fprintf(w, "%d\t%s\t%s\n", r.ID, r.URL, r.Outcome)
				}
				if err == nil {
					err = w.Flush()
				}
				return records.Audit{}, err
			})
		},
	}, &cobra.Command{
		Use: "remove ID", Short: "Remove a receiver", Args: usage.Words(1, 1, "the id of a receiver"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var id int64
			if _, err := fmt.Sscan(args[0], &id); err != nil {
				return fmt.Errorf("%q is not the number of a receiver: see grayloftd announce list", args[0])
			}
			return with(cmd, func(ctx context.Context, a *announce.Announcer, repository int64) (records.Audit, error) {
				return records.Audit{Action: "receiver removed", Subject: args[0]}, a.Remove(ctx, repository, id)
			})
		},
	})
	return group
}
