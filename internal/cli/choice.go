package cli

import (
	"github.com/spf13/cobra"
)

// choice is what a person says about settings.
type choice struct {
	modes []string
	sets  []string
}

func (c *choice) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&c.modes, "mode", nil, "take the values of this mode (repeatable; later ones win)")
	f.StringArrayVar(&c.sets, "set", nil, "give a setting a value: --set optimise=speed (repeatable; wins over modes)")
}

// apply puts the values that hold into the graph.
func (c *choice) apply(r *repository) error {
	vals, err := r.graph.Repo.Choose(c.modes, c.sets)
	if err != nil {
		return exit{exitWrong, "grayloft: " + err.Error()}
	}
	r.graph.Chosen = vals
	r.choice = *c
	return nil
}

// behindDash parts the names from what stands behind "--".
func behindDash(cmd *cobra.Command, args []string) (names, extra []string) {
	if at := cmd.ArgsLenAtDash(); at >= 0 {
		return args[:at], args[at:]
	}
	return args, nil
}
