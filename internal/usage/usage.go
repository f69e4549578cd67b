// Package usage words what is wrong with the arguments of a program, for the client and the
// service alike.
package usage

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// values says what a flag's value must be, by its type in pflag.
var values = map[string]string{
	"int": "a whole number", "int64": "a whole number", "float64": "a number", "bool": "true or false",
	"duration": "a duration such as 30s, 10m or 1h30m",
}

// Flag words an error about a flag of a command.
func Flag(cmd *cobra.Command, err error) error {
	var value *pflag.InvalidValueError
	var missing *pflag.ValueRequiredError
	text := err.Error()
	switch {
	case errors.As(err, &value):
		f := value.GetFlag()
		must := values[f.Value.Type()]
		if must == "" {
			return fmt.Errorf("--%s %q is not valid: %w", f.Name, value.GetValue(), errors.Unwrap(value))
		}
		text = fmt.Sprintf("--%s %q is not valid: it must be %s", f.Name, value.GetValue(), must)
	case errors.As(err, &missing):
		text = fmt.Sprintf("--%s needs a value", missing.GetFlag().Name)
	}
	return fmt.Errorf("%s; see %s --help", text, cmd.CommandPath())
}

// NoArgs refuses what follows a command that takes no names.
func NoArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return fmt.Errorf("%s takes no names, but got %q", cmd.Name(), args[0])
	}
	return nil
}

// Words demands names: so many at least, and at most; what says which. A negative maximum is none.
func Words(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch n := len(args); {
		case n < least:
			return fmt.Errorf("%s needs %s: see %s --help", cmd.Name(), what, cmd.CommandPath())
		case most >= 0 && n > most:
			return fmt.Errorf("%s takes %s, and no more: %q is left over; see %s --help", cmd.Name(), what, args[most], cmd.CommandPath())
		}
		return nil
	}
}

// OnlyCommands refuses what follows a command that is a group of others, and is not one of them.
func OnlyCommands(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return fmt.Errorf("%q is not a command of %s: %s", args[0], cmd.Name(), strings.Join(commands(cmd), ", "))
	}
	return nil
}

// Which is the error of a group that was given no command.
func Which(cmd *cobra.Command) error {
	return fmt.Errorf("which command of %s: %s?", cmd.Name(), strings.Join(commands(cmd), ", "))
}

func commands(cmd *cobra.Command) (names []string) {
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	return names
}

// How cobra says that there is no such command, and that flags are missing.
var (
	unknown = regexp.MustCompile(`^unknown command "([^"]*)" for "`)
	absent  = regexp.MustCompile(`^required flag\(s\) "(.*)" not set$`)
)

// Command words an error that cobra returned about a call as a whole.
func Command(root *cobra.Command, err error) error {
	if m := absent.FindStringSubmatch(err.Error()); m != nil {
		return fmt.Errorf("--%s is missing", strings.ReplaceAll(m[1], `", "`, " and --"))
	}
	m := unknown.FindStringSubmatch(err.Error())
	if m == nil {
		return err
	}
	help := fmt.Sprintf("see %s --help", root.Name())
	if near := root.SuggestionsFor(m[1]); len(near) > 0 {
		help = fmt.Sprintf("did you mean %s?", strings.Join(near, " or "))
	}
	return fmt.Errorf("%q is not a command; %s", m[1], help)
}
