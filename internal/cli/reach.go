package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/change"
	"grayloft.example/grayloft/internal/machine/changes"
	"grayloft.example/grayloft/internal/term"
)

func (a *app) reachCommand() *cobra.Command {
	var sel selection
	var as string
	c := &cobra.Command{
		Use: "reach [FILE…]", Short: "Show what files, or the changes since the base, can affect, and by what path",
		Long: "Lists the tasks that files, or the changes since the base, can affect, each with a shortest path.\n" +
			"--as ci-matrix prints one line of JSON, {\"include\": [{\"project\": …, \"dir\": …, \"tasks\": …}, …]}: one job\n" +
			"per affected project, for CI systems that expand a job matrix.",
		Example: "  grayloft reach\n  grayloft reach libs/fares/rates/summer.csv\n  grayloft reach --since main --as ci-matrix\n" +
			"  grayloft reach --commits FARE-12",
		RunE: func(cmd *cobra.Command, args []string) error {
			if as != "text" && as != "ci-matrix" {
				return wrong("--as %q is not valid: text or ci-matrix", as)
			}
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			sel.files = append(sel.files, args...)
			if sel.commits != "" && (len(sel.files) > 0 || sel.filesFrom != "") {
				return wrong("--commits asks git what changed: give it without files")
			}
			return a.reach(cmd.Context(), r, sel, as == "ci-matrix")
		},
	}
	sel.changeFlags(c)
	c.Flags().StringVar(&sel.commits, "commits", "",
		"what commits since the base with this text in their message changed: the work of one ticket")
	c.Flags().StringVar(&as, "as", "text", "text or ci-matrix (JSON with one job per project)")
	return c
}

func (a *app) reach(ctx context.Context, r *repository, s selection, matrix bool) error {
	found, err := a.changed(ctx, r, s)
	if err != nil {
		return err
	}
	list := change.Reach(r.graph, found.Touched)
	switch {
	case matrix:
		return a.printMatrix(list)
	case a.Format == "json":
		return a.JSON(reachJSON(list))
	case len(s.files) > 1 && len(s.files) <= 20 && s.filesFrom == "":
		return a.reachEach(ctx, r, s)
	}
	return a.printReach(r, s, found)
}

// reachEach explains several files one after another.
func (a *app) reachEach(ctx context.Context, r *repository, s selection) error {
	for i, f := range s.files {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		one := selection{files: []string{f}, since: s.since}
		found, err := a.changed(ctx, r, one)
		if err != nil {
			return err
		}
		fmt.Fprintln(a.Out, a.Bold(f))
		if err := a.printReach(r, one, found); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) printReach(r *repository, s selection, found changes.Answer) error {
	list := change.Reach(r.graph, found.Touched)
	if len(list) == 0 {
		paths, err := a.changedPaths(r, s)
		if err != nil {
			return err
		}
		nothing := "Nothing: no task reads what changed, and no declaration changed."
		if len(paths) == 1 {
			nothing = change.WhyNothing(r.graph, paths[0], found.Base)
		}
		fmt.Fprintln(a.Out, nothing)
		return nil
	}
	projects := change.Projects(list)
	fmt.Fprintf(
		a.Out,
		"%s in %s of %d.\n\n",
		amount.Count(len(list), "task", "tasks"),
		amount.Count(len(projects), "project", "projects"),
		len(r.graph.Projects),
	)
	rows := [][]string{}
	for _, x := range list {
		start := x.By.By
		if x.By.Through != "" {
			start += " (" + x.By.Through + ")"
		}
		way := append([]string{start}, term.Addresses(x.Path[:len(x.Path)-1])...)
		rows = append(rows, []string{x.Task.Addr(), strings.Join(way, " → ")})
	}
	a.Table([]string{"task", "by"}, rows)
	return nil
}

type reachDocument struct {
	Projects []string            `json:"projects"`
	Tasks    []string            `json:"tasks"`
	Paths    map[string][]string `json:"paths"` // from the file, or "its declaration", to the task
}

func reachJSON(list []change.Reached) reachDocument {
	out := reachDocument{Projects: change.Projects(list), Tasks: []string{}, Paths: map[string][]string{}}
	for _, x := range list {
		out.Tasks = append(out.Tasks, x.Task.Addr())
		out.Paths[x.Task.Addr()] = append([]string{x.By.By}, term.Addresses(x.Path)...)
	}
	slices.Sort(out.Tasks)
	return out
}

type matrixJob struct {
	Project string `json:"project"`
	Dir     string `json:"dir"`
	Tasks   string `json:"tasks"` // addresses separated by spaces, as run takes them
}

// printMatrix writes one line of JSON: a job for each affected project.
func (a *app) printMatrix(list []change.Reached) error {
	jobs := []matrixJob{}
	at := map[string]int{}
	for _, name := range change.Projects(list) {
		at[name] = len(jobs)
		jobs = append(jobs, matrixJob{Project: name})
	}
	for _, x := range list {
		j := &jobs[at[x.Task.Project.Name]]
		j.Dir = x.Task.Project.Dir
		j.Tasks = strings.TrimPrefix(j.Tasks+" "+x.Task.Addr(), " ")
	}
	b, err := json.Marshal(map[string]any{"include": jobs})
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(a.Out, string(b))
	return err
}
