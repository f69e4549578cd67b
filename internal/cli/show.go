package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
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
				return exit{exitWrong, "grayloft: show needs exactly one name: a project (fares), a task (build@fares), or kind:, setting:, mode:, pick: or probe: followed by a name"}
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
			return a.show(r, args[0])
		},
	}
	ch.flags(c)
	return c
}

func (a *app) show(r *repository, name string) error {
	if what, which, ok := strings.Cut(name, ":"); ok {
		return a.showNamed(r, what, which)
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
			return a.showNamed(r, what, name)
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

func (a *app) showNamed(r *repository, what, name string) error {
	all := named(r, what)
	if !slices.Contains([]string{"kind", "setting", "mode", "pick", "probe"}, what) {
		return exit{exitWrong, fmt.Sprintf("grayloft: %q is not valid: use kind:, setting:, mode:, pick: or probe: followed by a name", what+":")}
	}
	if !slices.Contains(all, name) {
		msg := fmt.Sprintf("grayloft: no %s is named %q", what, name)
		if c := decl.Closest(name, all); c != "" {
			return exit{exitWrong, msg + fmt.Sprintf("; did you mean %q?", c)}
		}
		return exit{exitWrong, msg + ": the names are " + orNone(strings.Join(all, ", "))}
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
		return a.showSavedPick(r, repo.Picks[name])
	}
	return a.showProbe(r, repo.Probes[name])
}

func orNone(s string) string { return orElse(s != "", s, "none") }

// sourced is a value with the position of its declaration.
type sourced struct {
	Value string `json:"value"`
	From  string `json:"from"` // file:line, or "default"
	By    string `json:"by"`   // "project", "kind go-library", "default", "person"
}

func source(text string, pos decl.Pos) sourced {
	by := "project"
	if pos.Kind != "" {
		by = "kind " + pos.Kind
	}
	return sourced{text, pos.At(), by}
}

func standard(text string) sourced { return sourced{text, "default", "default"} }

// where describes for people where a value comes from.
func (s sourced) where() string {
	switch {
	case s.By == "" || s.By == s.From:
		return s.From
	case s.From == "":
		return s.By
	}
	return s.By + ", " + s.From
}

func list(l decl.List) []sourced {
	if !l.Given {
		return nil
	}
	out := []sourced{}
	for _, it := range l.Items {
		out = append(out, source(it.Text, it.Pos))
	}
	return out
}

func addrs(tasks []*graph.Task) []string {
	out := []string{}
	for _, t := range tasks {
		out = append(out, t.Addr())
	}
	return out
}

func orElse(ok bool, s, other string) string {
	if ok {
		return s
	}
	return other
}

func plain(names []string) []sourced {
	out := []sourced{}
	for _, n := range names {
		out = append(out, sourced{n, "", ""})
	}
	return out
}

const labelWidth = 12

// row writes values below each other after their name, each with its source; if
// the terminal is too narrow for both, the source is on the next line.
func (a *app) row(name string, vals []sourced) {
	limit := a.width()
	wide, widest := 0, 0
	for _, v := range vals {
		widest = max(widest, runewidth.StringWidth(v.where()))
		wide = max(wide, runewidth.StringWidth(v.Value))
	}
	wide = min(wide, 56)
	stacked := limit > 0 && labelWidth+wide+2+widest > limit
	for i, v := range vals {
		if i > 0 {
			name = ""
		}
		label := a.soft(pad(name, labelWidth))
		text := v.Value
		if room := limit - labelWidth; limit > 0 && room > 8 {
			text = ansi.Hardwrap(text, room, true) // no part of a command may be lost
		}
		lines := strings.Split(text, "\n")
		for k, line := range lines {
			if k > 0 {
				label = pad("", labelWidth)
			}
			if k < len(lines)-1 || v.where() == "" || stacked {
				fmt.Fprintln(a.out, strings.TrimRight(label+line, " "))
				continue
			}
			fmt.Fprintln(a.out, label+pad(line, wide)+"  "+a.soft(v.where()))
		}
		if stacked && v.where() != "" {
			for line := range strings.SplitSeq(ansi.Hardwrap(v.where(), max(limit-labelWidth-2, 8), true), "\n") {
				fmt.Fprintln(a.out, pad("", labelWidth+2)+a.soft(line))
			}
		}
	}
}

type projectDetail struct {
	projectJSON
	NeedsAll []string  `json:"needs_all"`
	NeededBy []string  `json:"needed_by"`
	Offers   []sourced `json:"offers"`
	OffersTo []sourced `json:"offers_to"` // null: everyone
	From     string    `json:"from"`
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
	if a.format == "json" {
		return a.json(d)
	}
	fmt.Fprintln(a.out, a.bold(d.Name))
	fmt.Fprintln(a.out)
	a.row("in", []sourced{{d.Dir + "/", d.From, ""}})
	var kinds, tags, needs []sourced
	for _, it := range p.Kinds {
		kinds = append(kinds, sourced{it.Text, r.graph.Repo.Kinds[it.Text].Pos.At(), ""})
	}
	for _, it := range p.Tags {
		tags = append(tags, source(it.Text, it.Pos))
	}
	for _, it := range p.Project.Needs {
		needs = append(needs, sourced{it.Text, it.Pos.At(), ""})
	}
	a.row("kind", kinds)
	a.row("owner", plain(slices.DeleteFunc([]string{d.Owner}, func(s string) bool { return s == "" })))
	a.row("tags", tags)
	a.row("needs", needs)
	a.row("needed by", plain(d.NeededBy))
	if d.Offers == nil {
		a.row("offers", []sourced{standard("the project's files that the ignore files do not exclude")})
	} else {
		a.row("offers", d.Offers)
	}
	if d.OffersTo != nil {
		a.row("offers to", d.OffersTo)
	}
	for i, t := range p.Tasks {
		a.row(orElse(i == 0, "tasks", ""), []sourced{{t.Addr(), orElse(t.Help != "", t.Help, firstLine(t.Decl.Run.String())), ""}})
	}
	return nil
}
