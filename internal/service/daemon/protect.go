package daemon

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/service"
	fleets "grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/usage"
)

func protect(cfg *service.Config) *cobra.Command {
	var repo string
	var p fleet.Protection
	c := &cobra.Command{
		Use: "protect", Short: "Say which branches are protected, and which pools carry out protected jobs alone",
		Long: "Results of jobs in a protected pool go to the trusted shelf. Such a job needs a commit that is on a protected\n" +
			"branch, and carries neither local changes nor arguments. Without --branches and --pools, it prints what is protected.",
		Example: "  grayloftd protect --repo skerry --branches main,'release/*' --pools harbour",
		Args:    usage.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return withRecords(cmd.Context(), cfg, func(db *records.DB) error {
				id, err := db.RepositoryID(cmd.Context(), repo)
				if err != nil {
					return err
				}
				f := fleets.New(db, 0)
				if cmd.Flags().Changed("branches") || cmd.Flags().Changed("pools") {
					if err := f.Protect(cmd.Context(), id, p); err != nil {
						return err
					}
					change := records.Audit{Action: "protection changed", Detail: p.String()}
					if err := db.NoteCommand(cmd.Context(), repo, change); err != nil {
						return err
					}
				}
				now, err := f.Protection(cmd.Context(), id)
				if err == nil {
					fmt.Fprintln(cmd.OutOrStdout(), "protected: "+orNothing(now))
				}
				return err
			})
		},
	}
	c.Flags().StringVar(&repo, "repo", "", "the repository, as in [repo] name")
	c.Flags().StringSliceVar(&p.Refs, "branches", nil, "branches, or patterns such as release/*, that have reviewed commits only")
	c.Flags().StringSliceVar(&p.Pools, "pools", nil, "pools that carry out protected jobs alone")
	_ = c.MarkFlagRequired("repo")
	return c
}

func orNothing(p fleet.Protection) string {
	if text := p.String(); strings.TrimSpace(text) != "" {
		return text
	}
	return "nothing"
}
