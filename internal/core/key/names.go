package key

import (
	"fmt"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
)

// Names returns what the ingredients consist of, by name, each with a short digest: enough
// to say in what two of them differ.
func (in *Ingredients) Names() map[string]string {
	out := map[string]string{}
	add := func(name string, parts ...any) { out[name] = digest.Of(fmt.Append(nil, parts...)).Short() }
	add("command", in.Dir, "\n", strings.Join(in.Command, "\n"), "\n", strings.Join(in.Args, "\n"))
	add("declaration", fmt.Sprintf("%q %q %q %v %v", in.Writes, in.Scratch, in.Isolation, in.Network, in.Portable))
	add("platform", in.Platform)
	add("files", in.Files)
	for _, v := range in.Env {
		add("environment "+v.Name, v.Set, v.Value)
	}
	for _, v := range in.Settings {
		add("setting "+v.Name, v.Value)
	}
	for _, v := range in.Probes {
		add("probe "+v.Name, v.Value)
	}
	for _, n := range in.Needs {
		add("offers of "+n.Project, n.Files)
	}
	for _, d := range in.Dependencies {
		add("outputs of "+d.Task, d.Listing)
	}
	return out
}
