package usage_test

import (
	"io"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/usage"
)

// program has a command with flags, and a group of two.
func program(t *testing.T, args ...string) error {
	t.Helper()
	nothing := func(*cobra.Command, []string) error { return nil }
	root := &cobra.Command{Use: "boat", SilenceErrors: true, SilenceUsage: true}
	root.SetFlagErrorFunc(usage.Flag)
	sail := &cobra.Command{Use: "sail", Args: usage.NoArgs, RunE: nothing}
	f := sail.Flags()
	f.Int("knots", 0, "")
	f.Float64("tide", 0, "")
	f.Duration("for", time.Hour, "")
	f.Bool("home", false, "")
	f.StringToInt("crew", nil, "")
	f.String("to", "", "")
	f.String("from", "", "")
	group := &cobra.Command{
		Use: "cargo", Args: usage.OnlyCommands, RunE: func(cmd *cobra.Command, _ []string) error { return usage.Which(cmd) },
	}
	load := &cobra.Command{Use: "load", RunE: nothing}
	load.Flags().String("pier", "", "")
	if err := load.MarkFlagRequired("pier"); err != nil {
		t.Fatal(err)
	}
	group.AddCommand(load, &cobra.Command{Use: "drop", RunE: nothing})
	call := &cobra.Command{Use: "call", Args: usage.Words(1, 2, "one or two ports"), RunE: nothing}
	root.AddCommand(sail, group, call)
	root.SetArgs(args)
	root.SetOut(io.Discard)
	root.SetErr(io.Discard)
	if err := root.Execute(); err != nil {
		return usage.Command(root, err)
	}
	return nil
}

func TestWhatIsWrongWithACallIsSaidInPlainWords(t *testing.T) {
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"sial"}, `"sial" is not a command; did you mean sail?`},
		{[]string{"frobnicate"}, `"frobnicate" is not a command; see boat --help`},
		{[]string{"sail", "north"}, `sail takes no names, but got "north"`},
		{[]string{"sail", "--knots", "x"}, `--knots "x" is not valid: it must be a whole number; see boat sail --help`},
		{[]string{"sail", "--tide", "x"}, `--tide "x" is not valid: it must be a number; see boat sail --help`},
		{[]string{"sail", "--for", "5"}, `--for "5" is not valid: it must be a duration such as 30s, 10m or 1h30m; see boat sail --help`},
		{[]string{"sail", "--home=x"}, `--home "x" is not valid: it must be true or false; see boat sail --help`},
		{[]string{"sail", "--crew", "x"}, `--crew "x" is not valid: x must be formatted as key=value`},
		{[]string{"sail", "--to"}, `--to needs a value; see boat sail --help`},
		{[]string{"sail", "--speed"}, `unknown flag: --speed; see boat sail --help`},
		{[]string{"call"}, `call needs one or two ports: see boat call --help`},
		{[]string{"call", "a", "b", "c"}, `call takes one or two ports, and no more: "c" is left over; see boat call --help`},
		{[]string{"cargo"}, `which command of cargo: drop, load?`},
		{[]string{"cargo", "lift"}, `"lift" is not a command of cargo: drop, load`},
		{[]string{"cargo", "load"}, `--pier is missing`},
	} {
		if err := program(t, c.args...); err == nil || err.Error() != c.want {
			t.Errorf("%v: %v\nwant %s", c.args, err, c.want)
		}
	}
}
