package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

func (a *app) showCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a project, or a task with the exact command that it runs",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return exit{exitWrong, "grayloft: show wants one name: a project (fares) or a task (build@fares)"}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			return a.show(r, args[0])
		},
	}
}

func (a *app) show(r *repository, name string) error {
	if t := r.graph.Task(name); t != nil {
		return a.showTask(t)
	}
	if p := r.graph.Project(name); p != nil {
		return a.showProject(r, p)
	}
	if p := r.graph.Containing(r.here); p != nil && r.here != "" {
		if t := r.graph.Task(name + "@" + p.Name); t != nil {
			return a.showTask(t)
		}
	}
	var names []string
	for _, t := range r.graph.Tasks {
		names = append(names, t.Addr())
	}
	names = append(names, r.graph.ProjectNames()...)
	msg := fmt.Sprintf("grayloft: nothing is called %q", name)
	if c := decl.Closest(name, names); c != "" {
		msg += fmt.Sprintf("; did you mean %q?", c)
	} else {
		msg += ": grayloft tasks lists the tasks"
	}
	return exit{exitWrong, msg}
}

// sourced is a value with the place that it comes from.
type sourced struct {
	Value string `json:"value"`
	From  string `json:"from"` // file:line, or "default"
}

type taskDetail struct {
	Task     string    `json:"task"`
	Project  string    `json:"project"`
	Dir      string    `json:"dir"`
	Help     string    `json:"help"`
	Run      sourced   `json:"run"`
	Words    []string  `json:"words"` // what is executed
	Env      []sourced `json:"env"`
	Reads    []sourced `json:"reads"`
	Writes   []sourced `json:"writes"` // null: not declared, so that the task always runs
	Probes   []sourced `json:"probes"` // null: not declared, so that nothing is shared
	After    []string  `json:"after"`
	Before   []string  `json:"before"`
	Reuse    string    `json:"reuse"`
	Timeout  string    `json:"timeout"`
	Slots    int       `json:"slots"`
	Portable bool      `json:"portable"`
}

func list(l decl.List) []sourced {
	if !l.Given {
		return nil
	}
	out := []sourced{}
	for _, it := range l.Items {
		out = append(out, sourced{it.Text, it.Pos.At()})
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

func describeTask(t *graph.Task) taskDetail {
	d := taskDetail{
		Task: t.Addr(), Project: t.Project.Name, Dir: t.Project.Dir, Help: t.Help,
		Run: sourced{t.Decl.Run.String(), t.Decl.Run.Pos.At()}, Words: t.Decl.Run.Words(),
		Reads: list(t.Decl.Reads), Writes: list(t.Decl.Writes), Probes: list(t.Decl.Probes),
		After: addrs(t.Before), Before: addrs(t.After), Reuse: string(t.Reuse), Slots: t.Slots, Portable: t.Portable,
	}
	if d.Reads == nil {
		d.Reads = []sourced{{"the project's files that the ignore files do not exclude", "default"}}
	}
	if t.Timeout > 0 {
		d.Timeout = t.Timeout.String()
	}
	for _, v := range decl.FixedEnv() {
		d.Env = append(d.Env, sourced{v, "default"})
	}
	d.Env = append(d.Env, list(t.Decl.Env)...)
	return d
}

func (a *app) showTask(t *graph.Task) error {
	d := describeTask(t)
	if a.format == "json" {
		return a.json(d)
	}
	fmt.Fprintln(a.out, a.bold(d.Task))
	if d.Help != "" {
		fmt.Fprintln(a.out, d.Help)
	}
	fmt.Fprintln(a.out)
	a.row("runs", []sourced{{commandLine(d.Words), d.Run.From}})
	a.row("in", []sourced{{d.Dir + "/", ""}})
	a.row("with", d.Env)
	a.row("reads", d.Reads)
	switch {
	case d.Writes == nil:
		a.row("writes", []sourced{{"not declared: it always runs, and so does all that comes after it", "add writes"}})
	case len(d.Writes) == 0:
		a.row("writes", []sourced{{"nothing", t.Decl.Writes.Pos.At()}})
	default:
		a.row("writes", d.Writes)
	}
	if d.Probes == nil {
		a.row("probes", []sourced{{"not declared: what it makes stays on this machine", "add probes"}})
	} else {
		a.row("probes", d.Probes)
	}
	a.row("after", plain(d.After))
	a.row("before", plain(d.Before))
	a.row("reuse", []sourced{{d.Reuse, orElse(t.Decl.Reuse.Pos.File != "", t.Decl.Reuse.Pos.At(), "default")}})
	if d.Timeout != "" {
		a.row("timeout", []sourced{{d.Timeout, t.Decl.Timeout.Pos.At()}})
	}
	return nil
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
		out = append(out, sourced{n, ""})
	}
	return out
}

// row writes values below each other behind their name, each with its source.
func (a *app) row(name string, vals []sourced) {
	wide := 0
	for _, v := range vals {
		wide = max(wide, len([]rune(v.Value)))
	}
	wide = min(wide, 48)
	for i, v := range vals {
		if i > 0 {
			name = ""
		}
		line := a.soft(pad(name, 11)) + v.Value
		if v.From != "" {
			line = a.soft(pad(name, 11)) + pad(v.Value, wide) + "  " + a.soft(v.From)
		}
		fmt.Fprintln(a.out, line)
	}
}

// commandLine writes words as a person would type them into a shell.
func commandLine(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = w
		if w == "" || strings.ContainsAny(w, " \t\n\"'\\$&|;<>()*?[]{}#~`!") {
			out[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}

type projectDetail struct {
	projectJSON
	NeedsAll []string  `json:"needs_all"`
	NeededBy []string  `json:"needed_by"`
	Offers   []sourced `json:"offers"`
	From     string    `json:"from"`
}

func (a *app) showProject(r *repository, p *graph.Project) error {
	d := projectDetail{projectJSON: describeProject(p), NeedsAll: []string{}, NeededBy: []string{}, Offers: list(p.Offers), From: p.Pos.At()}
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
	a.row("in", []sourced{{d.Dir + "/", d.From}})
	a.row("kind", plain(d.Kind))
	a.row("owner", plain(slices.DeleteFunc([]string{d.Owner}, func(s string) bool { return s == "" })))
	a.row("tags", plain(d.Tags))
	a.row("needs", plain(d.Needs))
	a.row("needed by", plain(d.NeededBy))
	if d.Offers == nil {
		a.row("offers", []sourced{{"the project's files that the ignore files do not exclude", "default"}})
	} else {
		a.row("offers", d.Offers)
	}
	for i, t := range p.Tasks {
		name := ""
		if i == 0 {
			name = "tasks"
		}
		a.row(name, []sourced{{t.Addr(), orElse(t.Help != "", t.Help, firstLine(t.Decl.Run.String()))}})
	}
	return nil
}
