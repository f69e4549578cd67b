package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) showCommand() *cobra.Command {
	var ch choice
	c := &cobra.Command{
		Use:   "show NAME",
		Short: "Show a project, a task with the exact command that it runs, a kind, a setting, a mode, a pick or a probe",
		Example: "  grayloft show fares\n  grayloft show build@fares\n  grayloft show build@booking --mode release\n" +
			"  grayloft show kind:go-library",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return wrong(
					"show needs exactly one name: a project (fares), a task (build@fares), " +
						"or kind:, setting:, mode:, pick: or probe: followed by a name",
				)
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			if err := ch.apply(r); err != nil {
				return err
			}
			return a.show(cmd.Context(), r, args[0])
		},
	}
	ch.flags(c)
	return c
}

func (a *app) show(ctx context.Context, r *repository, name string) error {
	if what, which, ok := strings.Cut(name, ":"); ok {
		return a.showNamed(ctx, r, what, which)
	}
	if t := r.graph.Task(name); t != nil {
		return a.showTask(r, t)
	}
	if p := r.graph.Project(name); p != nil {
		return a.showProject(r, p)
	}
	if p := r.graph.Containing(r.here); p != nil && r.here != "" {
		if t := r.graph.Task(name + "@" + p.Name); t != nil {
			return a.showTask(r, t)
		}
	}
	for _, what := range []string{"kind", "setting", "mode", "pick", "probe"} {
		if slices.Contains(named(r, what), name) {
			return a.showNamed(ctx, r, what, name)
		}
	}
	var names []string
	for _, t := range r.graph.Tasks {
		names = append(names, t.Addr())
	}
	names = append(names, r.graph.ProjectNames()...)
	for _, what := range []string{"kind", "setting", "mode", "pick", "probe"} {
		names = append(names, named(r, what)...)
	}
	msg := fmt.Sprintf("grayloft: nothing is named %q", name)
	if slices.Contains(r.graph.TaskNames(), name) {
		return exit{exitWrong, msg + fmt.Sprintf(" alone; add the project: %s@…", name)}
	}
	if c := decl.Closest(name, names); c != "" {
		msg += fmt.Sprintf("; did you mean %q?", c)
	} else {
		msg += ": grayloft tasks lists the tasks"
	}
	return exit{exitWrong, msg}
}

// named returns the names of kinds, settings, modes, saved picks or probes,
// sorted.
func named(r *repository, what string) []string {
	repo := r.graph.Repo
	switch what {
	case "kind":
		return slices.Sorted(maps.Keys(repo.Kinds))
	case "setting":
		return slices.Sorted(maps.Keys(repo.Settings))
	case "mode":
		return slices.Sorted(maps.Keys(repo.Modes))
	case "pick":
		return slices.Sorted(maps.Keys(repo.Picks))
	case "probe":
		return slices.Sorted(maps.Keys(repo.Probes))
	}
	return nil
}

// noneNamed says that nothing of a sort has a name, and which names there are.
func noneNamed(what, name string, all []string) error {
	if c := decl.Closest(name, all); c != "" {
		return wrong("no %s is named %q; did you mean %q?", what, name, c)
	}
	return wrong("no %s is named %q: the names are %s", what, name, orNone(strings.Join(all, ", ")))
}

func (a *app) showNamed(ctx context.Context, r *repository, what, name string) error {
	all := named(r, what)
	if !slices.Contains([]string{"kind", "setting", "mode", "pick", "probe"}, what) {
		return wrong("%q is not valid: use kind:, setting:, mode:, pick: or probe: followed by a name", what+":")
	}
	if !slices.Contains(all, name) {
		return noneNamed(what, name, all)
	}
	repo := r.graph.Repo
	switch what {
	case "kind":
		return a.showKind(r, repo.Kinds[name])
	case "setting":
		return a.showSetting(r, repo.Settings[name])
	case "mode":
		return a.showMode(repo.Modes[name])
	case "pick":
		return a.showSavedPick(ctx, r, repo.Picks[name])
	}
	return a.showProbe(r, repo.Probes[name])
}

func orNone(s string) string { return orElse(s != "", s, "none") }

func source(text string, pos decl.Pos) term.Sourced {
	by := "project"
	if pos.Kind != "" {
		by = "kind " + pos.Kind
	}
	return term.Sourced{Value: text, From: pos.At(), By: by}
}

func standard(text string) term.Sourced {
	return term.Sourced{Value: text, From: "default", By: "default"}
}

func list(l decl.List) []term.Sourced {
	if !l.Given {
		return nil
	}
	out := []term.Sourced{}
	for _, it := range l.Items {
		out = append(out, source(it.Text, it.Pos))
	}
	return out
}

func orElse(ok bool, s, other string) string {
	if ok {
		return s
	}
	return other
}

type projectDetail struct {
	projectJSON
	NeedsAll []string       `json:"needs_all"`
	NeededBy []string       `json:"needed_by"`
	Offers   []term.Sourced `json:"offers"`
	OffersTo []term.Sourced `json:"offers_to"` // null: everyone
	From     string         `json:"from"`
}

func (a *app) showProject(r *repository, p *graph.Project) error {
	d := projectDetail{
		projectJSON: describeProject(p), NeedsAll: []string{}, NeededBy: []string{}, Offers: list(p.Offers),
		OffersTo: list(p.Project.OffersTo), From: p.Pos.At(),
	}
	for _, q := range p.NeedsAll {
		d.NeedsAll = append(d.NeedsAll, q.Name)
	}
	for _, q := range r.graph.Projects {
		if slices.Contains(q.Needs, p) {
			d.NeededBy = append(d.NeededBy, q.Name)
		}
	}
	if a.Format == "json" {
		return a.JSON(d)
	}
	fmt.Fprintln(a.Out, a.Bold(d.Name))
	fmt.Fprintln(a.Out)
	a.Row("in", []term.Sourced{{Value: d.Dir + "/", From: d.From, By: ""}})
	var kinds, tags, needs []term.Sourced
	for _, it := range p.Kinds {
		kinds = append(kinds, term.Sourced{Value: it.Text, From: r.graph.Repo.Kinds[it.Text].Pos.At(), By: ""})
	}
	for _, it := range p.Tags {
		tags = append(tags, source(it.Text, it.Pos))
	}
	for _, it := range p.Project.Needs {
		needs = append(needs, term.Sourced{Value: it.Text, From: it.Pos.At(), By: ""})
	}
	a.Row("kind", kinds)
	a.Row("owner", term.Plain(slices.DeleteFunc([]string{d.Owner}, func(s string) bool { return s == "" })))
	a.Row("tags", tags)
	a.Row("needs", needs)
	a.Row("needed by", term.Plain(d.NeededBy))
	if d.Offers == nil {
		a.Row("offers", []term.Sourced{standard("the project's files that the ignore files do not exclude")})
	} else {
		a.Row("offers", d.Offers)
	}
	if d.OffersTo != nil {
		a.Row("offers to", d.OffersTo)
	}
	for i, t := range p.Tasks {
		a.Row(
			orElse(i == 0, "tasks", ""),
			[]term.Sourced{{Value: t.Addr(), From: orElse(t.Help != "", t.Help, term.FirstLine(t.Decl.Run.String())), By: ""}},
		)
	}
	return nil
}
