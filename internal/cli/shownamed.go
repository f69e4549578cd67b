package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

type kindDetail struct {
	Kind     string      `json:"kind"`
	From     string      `json:"from"`
	Help     string      `json:"help"`
	Template string      `json:"template"`
	Offers   []sourced   `json:"offers"`
	Tags     []sourced   `json:"tags"`
	Tasks    []namedLine `json:"tasks"`
	Projects []string    `json:"projects"`
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
	if a.format == "json" {
		return a.json(d)
	}
	a.title("kind "+k.Name, k.Help)
	a.row("declared", plain([]string{d.From}))
	a.row("offers", d.Offers)
	a.row("tags", d.Tags)
	for i, t := range d.Tasks {
		a.row(orElse(i == 0, "tasks", ""), []sourced{{t.Name + "  " + orElse(t.Run != "", firstLine(t.Run), "run is declared by the project"), t.From, ""}})
	}
	if d.Template != "" {
		a.row("template", []sourced{{d.Template + "/", "grayloft new " + k.Name + " DIR", ""}})
	}
	a.row("projects", plain([]string{orNone(strings.Join(d.Projects, ", "))}))
	return nil
}

func (a *app) title(name, help string) {
	fmt.Fprintln(a.out, a.bold(name))
	if help != "" {
		fmt.Fprintln(a.out, help)
	}
	fmt.Fprintln(a.out)
}

type settingDetail struct {
	Setting string             `json:"setting"`
	From    string             `json:"from"`
	Help    string             `json:"help"`
	Type    string             `json:"type"`
	Values  []string           `json:"values"` // null: any value of the type
	Default string             `json:"default"`
	Value   string             `json:"value"` // the effective value
	Var     string             `json:"variable"`
	Modes   map[string]sourced `json:"modes"`
	Tasks   []string           `json:"tasks"`
}

func (a *app) showSetting(r *repository, s *decl.Setting) error {
	d := settingDetail{
		Setting: s.Name, From: s.Pos.At(), Help: s.Help, Type: string(s.Type), Values: s.Values, Default: s.Default,
		Value: r.graph.Chosen[s.Name], Var: s.Var(), Modes: map[string]sourced{},
	}
	for name, m := range r.graph.Repo.Modes {
		if it, ok := m.Values[s.Name]; ok {
			d.Modes[name] = sourced{it.Text, it.Pos.At(), "mode " + name}
		}
	}
	d.Tasks = tasksThat(r, func(t *graph.Task) bool { return slices.Contains(t.Settings, s.Name) })
	if a.format == "json" {
		return a.json(d)
	}
	a.title("setting "+s.Name, s.Help)
	a.row("takes", []sourced{{s.Choices(), d.From, ""}})
	a.row("default", []sourced{{s.Default, "", ""}})
	a.row("now", []sourced{{d.Value, chosenBy(r, s.Name), ""}})
	for _, name := range slices.Sorted(maps.Keys(d.Modes)) {
		a.row("in mode", []sourced{{name + ": " + d.Modes[name].Value, d.Modes[name].From, ""}})
	}
	a.row("in run", []sourced{{"%{setting." + s.Name + "}", "or $" + d.Var, ""}})
	a.row("used by", plain([]string{orNone(strings.Join(d.Tasks, ", "))}))
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
	if a.format == "json" {
		vals := map[string]sourced{}
		for name, it := range m.Values {
			vals[name] = sourced{it.Text, it.Pos.At(), "mode " + m.Name}
		}
		return a.json(map[string]any{"mode": m.Name, "from": m.Pos.At(), "values": vals})
	}
	a.title("mode "+m.Name, "")
	for _, name := range slices.Sorted(maps.Keys(m.Values)) {
		a.row("sets", []sourced{{name + " = " + m.Values[name].Text, m.Values[name].Pos.At(), ""}})
	}
	a.row("use it", plain([]string{"grayloft run TASK --mode " + m.Name}))
	return nil
}

func (a *app) showSavedPick(r *repository, s *decl.SavedPick) error {
	tasks, err := a.selected(a.ctx, r, selection{pick: "pick:" + s.Name}, nil)
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.json(map[string]any{"name": s.Name, "from": s.Where.Pos.At(), "where": s.Where.Text, "tasks": addrs(tasks)})
	}
	a.title("pick:"+s.Name, "")
	a.row("pick", []sourced{{s.Where.Text, s.Where.Pos.At(), ""}})
	projects := []string{}
	for _, t := range tasks {
		projects = append(projects, t.Project.Name)
	}
	slices.Sort(projects)
	projects = slices.Compact(projects)
	a.row("projects", plain([]string{orNone(strings.Join(projects, ", "))}))
	a.row("tasks", plain([]string{fmt.Sprint(len(tasks))}))
	return nil
}

type probeDetail struct {
	Probe  string   `json:"probe"`
	From   string   `json:"from"`
	Run    string   `json:"run"`
	Words  []string `json:"words"`
	Per    string   `json:"per"`
	Reads  []string `json:"reads"` // null: it runs in every run
	Dirs   []string `json:"dirs"`
	Tasks  []string `json:"tasks"`
	Steady bool     `json:"steady"`
}

func (a *app) showProbe(r *repository, p *decl.Probe) error {
	d := probeDetail{
		Probe: p.Name, From: p.Pos.At(), Run: p.Run.String(), Words: p.Run.Words(), Per: orElse(p.PerProject, "project", "repo"),
		Dirs: append([]string{}, p.Dirs...), Steady: p.Rememberable,
		Tasks: tasksThat(r, func(t *graph.Task) bool { return slices.Contains(t.Decl.Probes.Texts(), p.Name) }),
	}
	if p.Rememberable {
		d.Reads = []string{}
		for _, read := range p.Reads {
			d.Reads = append(d.Reads, read.Item.Text)
		}
	}
	if a.format == "json" {
		return a.json(d)
	}
	a.title("probe "+p.Name, "")
	a.row("runs", []sourced{{commandLine(d.Words), d.From, ""}})
	a.row("asked", plain([]string{orElse(p.PerProject, "once per project, in its directory", "once, at the root")}))
	switch {
	case !p.Rememberable:
		a.row("remembered", []sourced{{"no: it runs in every run", `reads = [] remembers it while the program stays the same`, ""}})
	case len(d.Reads) == 0:
		a.row("remembered", plain([]string{"while the program stays the same"}))
	default:
		a.row("remembered", plain([]string{"while the program and " + strings.Join(d.Reads, ", ") + " stay the same"}))
	}
	a.row("dirs", plain(d.Dirs))
	a.row("used by", plain([]string{orNone(strings.Join(d.Tasks, ", "))}))
	return nil
}
