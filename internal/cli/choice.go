package cli

import (
	"os"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/protocol"
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
	if os.Getenv(protocol.GuardedVar) != "" {
		for _, given := range c.sets {
			name, _, _ := strings.Cut(given, "=")
			if s := r.graph.Repo.Settings[name]; s.IsOpen() {
				return wrong("the setting %q takes any text, so a request cannot set it in a protected job: declare its values in %s",
					name, s.Pos.At())
			}
		}
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
