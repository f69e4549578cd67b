package cli

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/term"
)

// completions returns what can be typed at a position; if the repository cannot
// be read there is nothing, and no message.
func (a *app) completions(list func(r *repository, typed string) []string) cobra.CompletionFunc {
	return func(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		if a.begin() != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		r, err := a.load(context.Background())
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, s := range list(r, typed) {
			if strings.HasPrefix(s, typed) {
				out = append(out, s)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

// taskWords are the names of tasks, or their addresses after an "@".
func taskWords(r *repository, typed string) []string {
	var out []string
	if strings.Contains(typed, "@") {
		for _, t := range r.graph.Tasks {
			out = append(out, t.Addr())
		}
		slices.Sort(out)
		return out
	}
	for _, name := range r.graph.TaskNames() {
		out = append(out, name, name+"@")
	}
	return out
}

func addressWords(r *repository, _ string) []string {
	out := term.Addresses(r.graph.Tasks)
	slices.Sort(out)
	return out
}

func nameWords(r *repository, typed string) []string {
	out := append(r.graph.ProjectNames(), addressWords(r, typed)...)
	for _, what := range []string{"kind", "setting", "mode", "pick", "probe"} {
		for _, n := range named(r, what) {
			out = append(out, what+":"+n)
		}
	}
	return out
}

// pickWords completes the last word of an expression.
func pickWords(r *repository, typed string) []string {
	at := strings.LastIndexAny(typed, " (") + 1
	before := typed[:at]
	words := []string{"all", "changed", "affected", "failed", "commits:", "needs(", "needed_by(", "not ", "or ", "and "}
	words = append(words, r.graph.ProjectNames()...)
	fields := map[string]map[string]bool{"tag:": {}, "kind:": {}, "owner:": {}, "pick:": {}}
	for _, p := range r.graph.Projects {
		for _, t := range p.Tags {
			fields["tag:"][t.Text] = true
		}
		for _, k := range p.Kinds {
			fields["kind:"][k.Text] = true
		}
		if p.Owner != "" {
			fields["owner:"][p.Owner] = true
		}
	}
	for name := range r.graph.Repo.Picks {
		fields["pick:"][name] = true
	}
	for _, f := range slices.Sorted(maps.Keys(fields)) {
		for _, v := range slices.Sorted(maps.Keys(fields[f])) {
			words = append(words, f+v)
		}
	}
	for i, w := range words {
		words[i] = before + w
	}
	return words
}

// settingWords completes "name=" and then the values of the setting.
func settingWords(r *repository, _ string) []string {
	var out []string
	for _, name := range named(r, "setting") {
		s := r.graph.Repo.Settings[name]
		switch {
		case len(s.Values) > 0:
			for _, v := range s.Values {
				out = append(out, name+"="+v)
			}
		case s.Type == "bool":
			out = append(out, name+"=true", name+"=false")
		default:
			out = append(out, name+"=")
		}
	}
	return out
}

// completeFlags completes flags that take names of this repository, on every
// command that has them, and the values of flags with few.
func (a *app) completeFlags(c *cobra.Command) {
	for flag, list := range map[string]func(*repository, string) []string{
		"pick": pickWords, "set": settingWords, "task": addressWords,
		"mode": func(r *repository, _ string) []string { return named(r, "mode") },
	} {
		if c.Flags().Lookup(flag) != nil {
			_ = c.RegisterFlagCompletionFunc(flag, a.completions(list))
		}
	}
	for flag, vals := range map[string][]string{
		"logs": logsValues, "fetch": fetchValues, "of": {"projects", "tasks"},
		"format": {"text", "json"}, "color": {"auto", "always", "never"},
	} {
		if c.Flags().Lookup(flag) != nil || c.PersistentFlags().Lookup(flag) != nil {
			_ = c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(vals, cobra.ShellCompDirectiveNoFileComp))
		}
	}
	for _, sub := range c.Commands() {
		a.completeFlags(sub)
	}
}
