package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
)

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.Format == "json" {
				return a.JSON(map[string]any{"version": Version, "schema": decl.Schema})
			}
			fmt.Fprintf(a.Out, "grayloft %s, schema %d of declarations\n", Version, decl.Schema)
			return nil
		},
	}
}
