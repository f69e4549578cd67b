package cli

import (
	"github.com/spf13/cobra"
)

// choice is the settings that a person chose.
type choice struct {
	modes []string
	sets  []string
}

func (c *choice) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&c.modes, "mode", nil, "use the values of this mode (repeatable; later ones win)")
	f.StringArrayVar(&c.sets, "set", nil, "set a setting: --set optimise=speed (repeatable; wins over modes)")
}

// apply puts the effective values into the graph.
func (c *choice) apply(r *repository) error {
	vals, err := r.graph.Repo.Choose(c.modes, c.sets)
	if err != nil {
		return wrong("%v", err)
	}
	r.graph.Chosen = vals
	r.choice = *c
	return nil
}

// behindDash separates the names from the arguments after "--".
func behindDash(cmd *cobra.Command, args []string) (names, extra []string) {
	if at := cmd.ArgsLenAtDash(); at >= 0 {
		return args[:at], args[at:]
	}
	return args, nil
}
