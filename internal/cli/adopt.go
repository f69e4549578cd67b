package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/survey"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/term"
)

type adoptFlags struct {
	yes bool
	dry bool
}

func (a *app) adoptCommand() *cobra.Command {
	var f adoptFlags
	c := &cobra.Command{
		Use: "adopt", Short: "Propose declarations for this repository, from its scripts and manifests", Args: noArgs,
		Long: "Reads npm manifests, Go modules, Makefiles, shell scripts, and Cargo and Python manifests; works out projects,\n" +
			"tasks and needs; asks about what it cannot tell; and shows what it will write before it writes it. It does not\n" +
			"change scripts or existing declarations: if you run it again, it proposes only what is new.",
		Example: "  grayloft adopt --dry-run\n  grayloft adopt\n  grayloft adopt --yes",
		RunE: func(cmd *cobra.Command, _ []string) error {
			f.yes = f.yes || f.dry
			return a.adopt(cmd.Context(), f)
		},
	}
	c.Flags().BoolVarP(&f.yes, "yes", "y", false, "ask nothing and accept every default")
	c.Flags().BoolVar(&f.dry, "dry-run", false, "show what the defaults would write; ask nothing, write nothing")
	return c
}

// errNoAnswer ends an adoption in which a question was not answered.
var errNoAnswer = errors.New("no answer")

func (a *app) adopt(ctx context.Context, f adoptFlags) error {
	root, old, err := a.adoptRoot(ctx)
	if err != nil {
		return err
	}
	repo := git.Repo{Dir: root}
	list, err := a.adoptable(ctx, repo)
	if err == nil && old == nil {
		err = unlisted(decl.NameFrom(filepath.Base(root)), list)
	}
	if err != nil {
		return err
	}
	found := &survey.Repo{FS: files.Reading(root), Name: filepath.Base(root), Files: list}
	if found.Tracked, err = repo.Tracked(ctx); err != nil {
		return err
	}
	p, err := a.propose(ctx, f, found, repo, old)
	for err == nil && p != nil && len(p.Files) > 0 {
		if err := a.checkProposal(found, p.Proposal); err != nil {
			return err
		}
		written, err := a.writeProposal(f, root, p.Proposal)
		if err != nil || written {
			return err
		}
		if p, err = a.declined(f, p); err != nil {
			return err
		}
	}
	if errors.Is(err, errNoAnswer) {
		return exit{exitWrong, "\nA question was not answered, so nothing was written. grayloft adopt --yes accepts the defaults."}
	}
	return err
}

// proposing is a proposal with what it was made from.
type proposing struct {
	*adopt.Proposal
	survey *survey.Survey
	basics adopt.Basics
	old    *decl.Repo
}

// declined asks what of a proposal is not wanted, and proposes the rest.
func (a *app) declined(f adoptFlags, p *proposing) (*proposing, error) {
	skip, err := a.askSkip(f)
	if err != nil || skip == nil {
		return nil, exit{exitFailed, "Nothing was written."}
	}
	p.basics.Skip = append(p.basics.Skip, skip...)
	p.Proposal = adopt.Propose(p.survey, p.basics, p.old)
	return p, nil
}

// adoptRoot returns the directory for declarations, and the existing ones.
func (a *app) adoptRoot(ctx context.Context) (string, *decl.Repo, error) {
	start, err := a.start()
	if err != nil {
		return "", nil, err
	}
	for d := start; ; d = filepath.Dir(d) {
		if _, err := os.Stat(filepath.Join(d, decl.RootFile)); err == nil {
			g, err := graph.Load(files.Reading(d), filepath.Base(d))
			if err != nil {
				return "", nil, err
			}
			return d, g.Repo, nil
		}
		if a.repo != "" || d == filepath.Dir(d) {
			break
		}
	}
	if a.repo != "" {
		return start, nil, git.Repo{Dir: start}.Check(ctx)
	}
	top, err := git.Repo{Dir: start}.Top(ctx)
	return top, nil, err
}

// propose inspects, asks, and assembles what would be written; nil if there is
// nothing new.
func (a *app) propose(
	ctx context.Context,
	f adoptFlags,
	found *survey.Repo,
	repo git.Repo,
	old *decl.Repo,
) (*proposing, error) {
	choices := survey.Choices{Split: map[string]bool{}}
	modules := survey.Splittable(found)
	for _, dir := range sortedKeys(modules) {
		if old != nil { // existing declarations show the earlier answer
			choices.Split[dir] = slices.ContainsFunc(
				old.Projects,
				func(p *decl.Project) bool { return p.Dir != dir && slices.Contains(modules[dir], p.Dir) },
			)
			continue
		}
		yes, err := a.choose(
			f,
			fmt.Sprintf(
				"The Go module in %s has packages in %d directories. Make a project of each, so that a change runs only what it affects?",
				here(dir),
				len(modules[dir]),
			),
			"yes",
			[]string{"yes", "no"},
		)
		if err != nil {
			return nil, err
		}
		choices.Split[dir] = yes == "yes"
	}
	s := survey.Inspect(found, choices)
	if len(s.Projects) == 0 {
		fmt.Fprintf(
			a.Out,
			"Nothing to adopt: %s has no npm, Cargo or Python manifest, no Go module, "+
				"no Makefile with phony targets and no script in bin/, scripts/ or tools/.\n"+
				"Declare a first task by hand in %s: see the reference and grayloft schema.\n",
			repo.Dir,
			decl.RootFile,
		)
		return nil, nil
	}
	basics, err := a.basics(ctx, f, found, repo, old)
	if err != nil {
		return nil, err
	}
	p := adopt.Propose(s, basics, old)
	if len(p.Files) == 0 {
		fmt.Fprintln(a.Out, orElse(p.Skipped == 0, "Everything that was found is already declared.",
			fmt.Sprintf("Everything that was found is already declared, or skipped (%s).", amount.Count(p.Skipped, "task", "tasks"))))
		a.listLines("Not declared, because reuse would be wrong", p.NotAdopted)
		a.listLines("Changed since it was declared", p.Since)
		return nil, nil
	}
	fmt.Fprintf(
		a.Out,
		"Found %s with %s to declare.\n\n",
		amount.Count(len(p.Projects), "project", "projects"),
		amount.Count(p.Tasks, "task", "tasks"),
	)
	a.listProjects(s, p)
	if err := a.askVariables(f, s, p); err != nil {
		return nil, err
	}
	if err := a.askWrites(f, s, p); err != nil {
		return nil, err
	}
	p = adopt.Propose(s, basics, old)
	a.listLines("Changed since it was declared", p.Since)
	a.listLines("Never reused", p.Never)
	a.listLines("Always run, until writes is declared", p.Always)
	a.listLines("Not declared, because reuse would be wrong", p.NotAdopted)
	a.listLines("Notes", s.Notes)
	return &proposing{p, s, basics, old}, nil
}

func here(dir string) string { return orElse(dir == ".", "this directory", dir) }

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func (a *app) basics(ctx context.Context, f adoptFlags, found *survey.Repo, repo git.Repo, old *decl.Repo) (adopt.Basics, error) {
	if old != nil {
		return adopt.Basics{Name: old.Name, Since: old.Since}, nil
	}
	name, err := a.answer(f, "What is the name of the repository?", decl.NameFrom(found.Name))
	if err != nil {
		return adopt.Basics{}, err
	}
	since := ""
	for _, b := range []string{"main", "master", "trunk", "develop"} {
		if since == "" && slices.Contains(repo.Branches(ctx), b) {
			since = b
		}
	}
	if _, branch := repo.Head(ctx); since == "" {
		since = branch
	}
	since, err = a.answer(f, "Which branch are changes measured against?", since)
	return adopt.Basics{Name: name, Since: since}, err
}

func (a *app) listProjects(s *survey.Survey, p *adopt.Proposal) {
	rows := [][]string{}
	for _, x := range p.Projects {
		var tasks, needs []string
		for _, t := range x.Tasks {
			if t.Sort != survey.NotAdopted {
				tasks = append(tasks, t.Name)
			}
		}
		for _, n := range x.Needs {
			needs = append(needs, n.Dir)
		}
		rows = append(
			rows,
			[]string{x.Dir, strings.Join(x.Via, " "), a.some(tasks), a.some(needs)},
		)
	}
	a.Table([]string{"directory", "found by", "tasks", "needs"}, rows)
	fmt.Fprintln(a.Out)
}

// some returns the names that fit into a column, and how many there are beyond.
func (a *app) some(names []string) string {
	const room = 50
	all := strings.Join(names, " ")
	if len(all) <= room || len(names) == 1 || a.Verbose {
		return term.OrDash(all)
	}
	n := 1
	for used := len(names[0]); n < len(names)-1 && used+1+len(names[n]) <= room; n++ {
		used += 1 + len(names[n])
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:n], " "), len(names)-n)
}

func (a *app) listLines(title string, lines []string) {
	if len(lines) == 0 {
		return
	}
	fmt.Fprintln(a.Out, title+":")
	shown := lines
	if len(shown) > 12 && !a.Verbose {
		shown = shown[:10]
	}
	for _, l := range shown {
		fmt.Fprintln(a.Out, term.Fit("  "+l, a.Width()))
	}
	if len(shown) < len(lines) {
		fmt.Fprintf(a.Out, "  and %d more (--verbose lists them)\n", len(lines)-len(shown))
	}
	fmt.Fprintln(a.Out)
}
