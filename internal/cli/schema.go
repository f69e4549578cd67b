package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
)

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the declarations, for editors", Args: noArgs,
		Long: "Prints the JSON Schema (draft 7) of grayloft.toml, loft.toml and included files. Editors that support TOML\n" +
			"and JSON Schema complete and check declarations with it: save it beside grayloft.toml and name it in a first\n" +
			"line such as\n\n  #:schema ./grayloft.schema.json",
		Example: "  grayloft schema > grayloft.schema.json",
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprint(a.Out, string(decl.JSONSchema))
			return err
		},
	}
}
