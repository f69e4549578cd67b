package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/pick"
	"grayloft.example/grayloft/internal/term"
)

type projectJSON struct {
	Name  string   `json:"name"`
	Dir   string   `json:"dir"`
	Kind  []string `json:"kind"`
	Needs []string `json:"needs"`
	Tags  []string `json:"tags"`
	Owner string   `json:"owner"`
	Tasks []string `json:"tasks"`
}

func texts(items []decl.Item) []string {
	out := []string{}
	for _, it := range items {
		out = append(out, it.Text)
	}
	return out
}

func describeProject(p *graph.Project) projectJSON {
	j := projectJSON{
		Name: p.Name, Dir: p.Dir, Kind: texts(p.Kinds), Needs: texts(p.Project.Needs), Tags: texts(p.Tags),
		Owner: p.Owner, Tasks: []string{},
	}
	for _, t := range p.Tasks {
		j.Tasks = append(j.Tasks, t.Name)
	}
	return j
}

func (a *app) projectsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "projects", Short: "List the projects", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			list := []projectJSON{}
			for _, p := range r.graph.Projects {
				list = append(list, describeProject(p))
			}
			if a.Format == "json" {
				return a.JSON(list)
			}
			rows := [][]string{}
			for _, p := range list {
				rows = append(
					rows,
					[]string{
						p.Name,
						term.OrDash(strings.Join(p.Kind, " ")),
						p.Dir,
						strings.Join(p.Tasks, " "),
						term.OrDash(strings.Join(p.Needs, " ")),
					},
				)
			}
			if len(rows) == 0 {
				fmt.Fprintf(
					a.Out,
					"No projects yet: add a %s to a directory that matches [repo] projects in %s.\n",
					decl.ProjectFile,
					decl.RootFile,
				)
				return nil
			}
			a.Table([]string{"project", "kind", "directory", "tasks", "needs"}, rows)
			return nil
		},
	}
}

type taskJSON struct {
	Task    string   `json:"task"`
	Project string   `json:"project"`
	Run     string   `json:"run"`
	After   []string `json:"after"`
	Reuse   string   `json:"reuse"`
	Help    string   `json:"help"`
}

func (a *app) tasksCommand() *cobra.Command {
	var sel selection
	c := &cobra.Command{
		Use: "tasks [TASK…]", Short: "List the tasks",
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			sel.everything = true
			tasks, err := a.selected(cmd.Context(), r, sel, args)
			if err != nil {
				return err
			}
			list := []taskJSON{}
			rows := [][]string{}
			slices.SortFunc(tasks, func(x, y *graph.Task) int {
				return strings.Compare(x.Project.Name+"\x00"+x.Name, y.Project.Name+"\x00"+y.Name)
			})
			for _, t := range tasks {
				j := taskJSON{
					Task:    t.Addr(),
					Project: t.Project.Name,
					Run:     t.Decl.Run.String(),
					After:   []string{},
					Reuse:   string(t.Reuse),
					Help:    t.Help,
				}
				for _, u := range t.Dependencies {
					j.After = append(j.After, u.Addr())
				}
				list = append(list, j)
				what := t.Help
				if what == "" {
					what = term.FirstLine(j.Run)
				}
				rows = append(rows, []string{j.Task, what})
			}
			if a.Format == "json" {
				return a.JSON(list)
			}
			if len(r.graph.Tasks) == 0 {
				fmt.Fprintln(a.Out, "No tasks yet: "+pick.HowToDeclare+".")
				return nil
			}
			a.Table([]string{"task", "help"}, rows)
			return nil
		},
	}
	sel.flags(c)
	return c
}
