package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/term"
)

type kindDetail struct {
	Kind     string         `json:"kind"`
	From     string         `json:"from"`
	Help     string         `json:"help"`
	Template string         `json:"template"`
	Offers   []term.Sourced `json:"offers"`
	Tags     []term.Sourced `json:"tags"`
	Tasks    []namedLine    `json:"tasks"`
	Projects []string       `json:"projects"`
}

type namedLine struct {
	Name string `json:"name"`
	Run  string `json:"run"`
	From string `json:"from"`
}

func (a *app) showKind(r *repository, k *decl.Kind) error {
	d := kindDetail{
		Kind: k.Name, From: k.Pos.At(), Help: k.Help, Template: k.Template.Text, Offers: list(k.Offers), Tags: list(k.Tags),
		Tasks: []namedLine{}, Projects: []string{},
	}
	for _, name := range slices.Sorted(maps.Keys(k.Tasks)) {
		t := k.Tasks[name]
		d.Tasks = append(d.Tasks, namedLine{name, t.Run.String(), t.Pos.At()})
	}
	for _, p := range r.graph.Projects {
		if slices.ContainsFunc(p.Kinds, func(it decl.Item) bool { return it.Text == k.Name }) {
			d.Projects = append(d.Projects, p.Name)
		}
	}
	if a.Format == "json" {
		return a.JSON(d)
	}
	a.Title("kind "+k.Name, k.Help)
	a.Row("declared", term.Plain([]string{d.From}))
	a.Row("offers", d.Offers)
	a.Row("tags", d.Tags)
	for i, t := range d.Tasks {
		a.Row(
			orElse(i == 0, "tasks", ""),
			[]term.Sourced{
				{Value: t.Name + "  " + orElse(t.Run != "", term.FirstLine(t.Run), "run is declared by the project"), From: t.From, By: ""},
			},
		)
	}
	if d.Template != "" {
		a.Row("template", []term.Sourced{{Value: d.Template + "/", From: "grayloft new " + k.Name + " DIR", By: ""}})
	}
	a.Row("projects", term.Plain([]string{orNone(strings.Join(d.Projects, ", "))}))
	return nil
}

type settingDetail struct {
	Setting string                  `json:"setting"`
	From    string                  `json:"from"`
	Help    string                  `json:"help"`
	Type    string                  `json:"type"`
	Values  []string                `json:"values"` // null: any value of the type
	Default string                  `json:"default"`
	Value   string                  `json:"value"` // the effective value
	Var     string                  `json:"variable"`
	Modes   map[string]term.Sourced `json:"modes"`
	Tasks   []string                `json:"tasks"`
}

func (a *app) showSetting(r *repository, s *decl.Setting) error {
	d := settingDetail{
		Setting: s.Name, From: s.Pos.At(), Help: s.Help, Type: string(s.Type), Values: s.Values, Default: s.Default,
		Value: r.graph.Chosen[s.Name], Var: s.Var(), Modes: map[string]term.Sourced{},
	}
	for name, m := range r.graph.Repo.Modes {
		if it, ok := m.Values[s.Name]; ok {
			d.Modes[name] = term.Sourced{Value: it.Text, From: it.Pos.At(), By: "mode " + name}
		}
	}
	d.Tasks = tasksThat(r, func(t *graph.Task) bool { return slices.Contains(t.Settings, s.Name) })
	if a.Format == "json" {
		return a.JSON(d)
	}
	a.Title("setting "+s.Name, s.Help)
	a.Row("takes", []term.Sourced{{Value: s.Choices(), From: d.From, By: ""}})
	a.Row("default", []term.Sourced{{Value: s.Default, From: "", By: ""}})
	a.Row("now", []term.Sourced{{Value: d.Value, From: chosenBy(r, s.Name), By: ""}})
	for _, name := range slices.Sorted(maps.Keys(d.Modes)) {
		a.Row("in mode", []term.Sourced{{Value: name + ": " + d.Modes[name].Value, From: d.Modes[name].From, By: ""}})
	}
	a.Row("in run", []term.Sourced{{Value: "%{setting." + s.Name + "}", From: "or $" + d.Var, By: ""}})
	a.Row("used by", term.Plain([]string{orNone(strings.Join(d.Tasks, ", "))}))
	return nil
}

func tasksThat(r *repository, ok func(*graph.Task) bool) []string {
	out := []string{}
	for _, t := range r.graph.Tasks {
		if ok(t) {
			out = append(out, t.Addr())
		}
	}
	slices.Sort(out)
	return out
}

func (a *app) showMode(m *decl.Mode) error {
	if a.Format == "json" {
		vals := map[string]term.Sourced{}
		for name, it := range m.Values {
			vals[name] = term.Sourced{Value: it.Text, From: it.Pos.At(), By: "mode " + m.Name}
		}
		return a.JSON(map[string]any{"mode": m.Name, "from": m.Pos.At(), "values": vals})
	}
	a.Title("mode "+m.Name, "")
	for _, name := range slices.Sorted(maps.Keys(m.Values)) {
		a.Row("sets", []term.Sourced{{Value: name + " = " + m.Values[name].Text, From: m.Values[name].Pos.At(), By: ""}})
	}
	a.Row("use it", term.Plain([]string{"grayloft run TASK --mode " + m.Name}))
	return nil
}

func (a *app) showSavedPick(ctx context.Context, r *repository, s *decl.SavedPick) error {
	tasks, err := a.selected(ctx, r, selection{pick: "pick:" + s.Name}, nil)
	if err != nil {
		return err
	}
	if a.Format == "json" {
		return a.JSON(map[string]any{"name": s.Name, "from": s.Where.Pos.At(), "where": s.Where.Text, "tasks": term.Addresses(tasks)})
	}
	a.Title("pick:"+s.Name, "")
	a.Row("pick", []term.Sourced{{Value: s.Where.Text, From: s.Where.Pos.At(), By: ""}})
	projects := []string{}
	for _, t := range tasks {
		projects = append(projects, t.Project.Name)
	}
	slices.Sort(projects)
	projects = slices.Compact(projects)
	a.Row("projects", term.Plain([]string{orNone(strings.Join(projects, ", "))}))
	a.Row("tasks", term.Plain([]string{fmt.Sprint(len(tasks))}))
	return nil
}

type probeDetail struct {
	Probe string   `json:"probe"`
	From  string   `json:"from"`
	Run   string   `json:"run"`
	Words []string `json:"words"`
	// Installed is the record of a package manager that it asks instead of running a command.
	Installed string   `json:"installed,omitempty"`
	Per       string   `json:"per"`
	Reads     []string `json:"reads"` // null: it runs in every run
	Dirs      []string `json:"dirs"`
	Tasks     []string `json:"tasks"`
	Steady    bool     `json:"steady"`
	// Always says why it runs in every run although it says what it reads.
	Always string `json:"always,omitempty"`
}

func (a *app) showProbe(r *repository, p *decl.Probe) error {
	d := probeDetail{
		Probe: p.Name, From: p.Pos.At(), Run: p.Run.String(), Words: []string{}, Installed: p.Installed.Text,
		Per:  orElse(p.PerProject, "project", "repo"),
		Dirs: append([]string{}, p.Dirs...), Steady: p.Rememberable,
		Tasks: tasksThat(r, func(t *graph.Task) bool { return slices.Contains(t.Decl.Probes.Texts(), p.Name) }),
	}
	if p.Run.Given() {
		d.Words = p.Run.Words()
	}
	if p.Rememberable {
		d.Reads = []string{}
		for _, read := range p.Reads {
			d.Reads = append(d.Reads, read.Item.Text)
		}
		if err := sandbox.CanTrace(); err != nil && d.Installed == "" {
			d.Always, d.Steady = err.Error(), false
		}
	}
	if a.Format == "json" {
		return a.JSON(d)
	}
	a.Title("probe "+p.Name, "")
	program, asked := "all that it opens and ", orElse(p.PerProject, "once per project, in its directory", "once, at the root")
	if d.Installed != "" {
		program, asked = "", "once per project: the packages on which it, what it needs, and the directories above depend"
		a.Row("looks up", []term.Sourced{{Value: "what is installed, in " + d.Installed, From: d.From, By: ""}})
	} else {
		a.Row("runs", []term.Sourced{{Value: commandLine(d.Words), From: d.From, By: ""}})
	}
	a.Row("asked", term.Plain([]string{asked}))
	switch {
	case !p.Rememberable:
		a.Row(
			"remembered",
			[]term.Sourced{{
				Value: "no: it runs in every run", From: `reads = [] remembers it while all that it opens stays the same`, By: "",
			}},
		)
	case d.Always != "":
		a.Row("remembered", []term.Sourced{{Value: "no: it runs in every run", From: d.Always, By: ""}})
	case len(d.Reads) == 0:
		a.Row("remembered", term.Plain([]string{"while all that it opens stays the same"}))
	default:
		a.Row("remembered", term.Plain([]string{"while " + program + strings.Join(d.Reads, ", ") + " stay the same"}))
	}
	a.Row("dirs", term.Plain(d.Dirs))
	a.Row("used by", term.Plain([]string{orNone(strings.Join(d.Tasks, ", "))}))
	return nil
}
