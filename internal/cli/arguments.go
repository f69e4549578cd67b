package cli

import (
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/usage"
)

func noArgs(cmd *cobra.Command, args []string) error { return refused(usage.NoArgs(cmd, args)) }

// words demands names: so many at least, and at most; what says which.
func words(least, most int, what string) cobra.PositionalArgs {
	check := usage.Words(least, most, what)
	return func(cmd *cobra.Command, args []string) error { return refused(check(cmd, args)) }
}

func onlyCommands(cmd *cobra.Command, args []string) error {
	return refused(usage.OnlyCommands(cmd, args))
}

// refused reports arguments that a command does not take.
func refused(err error) error {
	if err != nil {
		return wrong("%v", err)
	}
	return nil
}
