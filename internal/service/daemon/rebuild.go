package daemon

import (
	"fmt"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/usage"
)

// rebuildCommand computes sums again from the records.
func rebuildCommand(cfg *service.Config) *cobra.Command {
	var repo string
	c := &cobra.Command{
		Use: "rebuild", Short: "Compute the sums that pages show again, from the records of runs", Args: usage.NoArgs,
		Long: "Compute the sums that pages show (of runs by hour, of tasks by week, files that cause reruns, keys whose executions " +
			"do not agree) again, from the records of runs. The service does this for each run that ends; rebuild is for a database " +
			"that was restored or changed by hand. It may run beside the service.",
		Example: "  grayloftd rebuild --repo skerry",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return withRecords(cmd.Context(), cfg, func(db *records.DB) error {
				id, err := db.RepositoryID(cmd.Context(), repo)
				if err != nil {
					return err
				}
				rollups := &insight.Rollups{DB: db.Patient(), Declarations: insight.NewDeclarations(db)}
				if err := rollups.Rebuild(cmd.Context(), id); err != nil {
					return err
				}
				fmt.Fprintf(cmd.OutOrStdout(), "The sums of %s are computed from its records.\n", repo)
				return db.NoteCommand(cmd.Context(), repo, records.Audit{Action: "sums rebuilt"})
			})
		},
	}
	c.Flags().StringVar(&repo, "repo", "", "the repository, as in [repo] name")
	_ = c.MarkFlagRequired("repo")
	return c
}
