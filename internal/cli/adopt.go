package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2/maybe"

	udiff "github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
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
		RunE:    func(cmd *cobra.Command, _ []string) error { return a.adopt(cmd.Context(), f) },
	}
	c.Flags().BoolVarP(&f.yes, "yes", "y", false, "ask nothing and accept every default")
	c.Flags().BoolVar(&f.dry, "dry-run", false, "show what would be written, but write nothing")
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
	list, err := repo.Files(ctx)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(p string) bool { _, err := os.Lstat(filepath.Join(root, p)); return err != nil })
	found := &adopt.Repo{FS: os.DirFS(root), Name: filepath.Base(root), Files: list}
	p, err := a.propose(ctx, f, found, repo, old)
	if errors.Is(err, errNoAnswer) {
		return exit{exitWrong, "\nA question was not answered, so nothing was written. grayloft adopt --yes accepts the defaults."}
	}
	if err != nil || p == nil {
		return err
	}
	if err := a.checkProposal(found, p); err != nil {
		return err
	}
	return a.writeProposal(f, root, p)
}

// adoptRoot returns the directory for declarations, and the existing ones.
func (a *app) adoptRoot(ctx context.Context) (string, *decl.Repo, error) {
	start, err := a.start()
	if err != nil {
		return "", nil, err
	}
	for d := start; ; d = filepath.Dir(d) {
		if _, err := os.Stat(filepath.Join(d, decl.RootFile)); err == nil {
			g, err := graph.Load(os.DirFS(d), filepath.Base(d))
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
func (a *app) propose(ctx context.Context, f adoptFlags, found *adopt.Repo, repo git.Repo, old *decl.Repo) (*adopt.Proposal, error) {
	choices := adopt.Choices{Split: map[string]bool{}}
	modules := adopt.Splittable(found)
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
	s := adopt.Inspect(found, choices)
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
		fmt.Fprintln(a.Out, "Everything that was found is already declared.")
		a.listLines("Not declared, because reuse would be wrong", p.NotAdopted)
		return nil, nil
	}
	fmt.Fprintf(
		a.Out,
		"Found %s with %s to declare.\n\n",
		term.Count(len(p.Projects), "project", "projects"),
		term.Count(p.Tasks, "task", "tasks"),
	)
	a.listProjects(s, p)
	if err := a.askVariables(f, s, p); err != nil {
		return nil, err
	}
	if err := a.askWrites(f, s, p); err != nil {
		return nil, err
	}
	p = adopt.Propose(s, basics, old)
	a.listLines("Never reused", p.Never)
	a.listLines("Always run, until writes is declared", p.Always)
	a.listLines("Not declared, because reuse would be wrong", p.NotAdopted)
	a.listLines("Notes", s.Notes)
	return p, nil
}

func here(dir string) string { return orElse(dir == ".", "this directory", dir) }

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func (a *app) basics(ctx context.Context, f adoptFlags, found *adopt.Repo, repo git.Repo, old *decl.Repo) (adopt.Basics, error) {
	if old != nil {
		return adopt.Basics{Name: old.Name, Since: old.Since}, nil
	}
	name, err := a.answer(
		f,
		"What is the name of the repository?",
		strings.Trim(strings.NewReplacer("@", "-", ":", "-", " ", "-").Replace(found.Name), "-"),
	)
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

func (a *app) listProjects(s *adopt.Survey, p *adopt.Proposal) {
	rows := [][]string{}
	for _, x := range p.Projects {
		var tasks, needs []string
		for _, t := range x.Tasks {
			if t.Sort != adopt.NotAdopted {
				tasks = append(tasks, t.Name)
			}
		}
		for _, n := range x.Needs {
			needs = append(needs, n.Dir)
		}
		rows = append(
			rows,
			[]string{x.Dir, strings.Join(x.Via, " "), term.OrDash(strings.Join(tasks, " ")), term.OrDash(strings.Join(needs, " "))},
		)
	}
	a.Table([]string{"directory", "found by", "tasks", "needs"}, rows)
	fmt.Fprintln(a.Out)
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

// askVariables decides how the variables that scripts read are declared.
func (a *app) askVariables(f adoptFlags, s *adopt.Survey, p *adopt.Proposal) error {
	if len(s.Variables) == 0 {
		return nil
	}
	fmt.Fprintln(a.Out, "Scripts and sources read these environment variables:")
	rows := [][]string{}
	for _, v := range s.Variables {
		rows = append(rows, []string{"  " + v.Name, string(v.Use), term.FirstFew(v.Files), v.Why})
	}
	a.Table([]string{"  variable", "becomes", "read by", "since"}, rows)
	fmt.Fprintln(a.Out)
	for _, v := range s.Variables {
		uses := []string{}
		for _, u := range adopt.Uses {
			if u != adopt.AsSetting || len(v.Values) > 0 {
				uses = append(uses, string(u))
			}
		}
		if !slices.ContainsFunc(v.Files, func(file string) bool {
			return !strings.Contains(file, ".") || strings.Contains(file, " in ") || strings.HasSuffix(file, ".sh")
		}) {
			continue // read only by sources: the default is good enough, and the declaration can be changed
		}
		use, err := a.choose(f, fmt.Sprintf("How should %s, read by %s, be declared?", v.Name, term.FirstFew(v.Files)), string(v.Use), uses)
		if err != nil {
			return err
		}
		v.Use = adopt.Use(use)
	}
	return nil
}

// askWrites asks for the outputs of tasks for which nothing shows them.
func (a *app) askWrites(f adoptFlags, s *adopt.Survey, p *adopt.Proposal) error {
	for _, x := range p.Projects {
		for _, t := range x.Tasks {
			if t.Sort != adopt.Reusable || t.Writes != nil {
				continue
			}
			text, err := a.answer(
				f,
				fmt.Sprintf(
					"What does %s in %s write? Patterns separated by commas, \"nothing\", or \"unknown\" (the task then always runs)",
					t.Name,
					here(x.Dir),
				),
				"unknown",
			)
			if err != nil {
				return err
			}
			switch text {
			case "unknown":
			case "nothing":
				t.Writes = []string{}
			default:
				for w := range strings.SplitSeq(text, ",") {
					t.Writes = append(t.Writes, strings.TrimSpace(w))
				}
			}
		}
	}
	return nil
}

// answer asks one question; Enter accepts the value in brackets.
func (a *app) answer(f adoptFlags, question, standard string) (string, error) {
	if f.yes {
		return standard, nil
	}
	fmt.Fprintf(a.Out, "%s [%s] ", question, standard)
	line, err := a.in.ReadString('\n')
	if err != nil && strings.TrimSpace(line) == "" {
		return "", errNoAnswer
	}
	if text := strings.TrimSpace(line); text != "" {
		return text, nil
	}
	return standard, nil
}

// choose asks until the answer is one of the choices, or a unique prefix of
// one.
func (a *app) choose(f adoptFlags, question, standard string, among []string) (string, error) {
	for {
		text, err := a.answer(f, fmt.Sprintf("%s (%s)", question, strings.Join(among, ", ")), standard)
		if err != nil {
			return "", err
		}
		var fits []string
		for _, c := range among {
			if c == text {
				return c, nil
			}
			if strings.HasPrefix(c, strings.ToLower(text)) {
				fits = append(fits, c)
			}
		}
		if len(fits) == 1 {
			return fits[0], nil
		}
		fmt.Fprintf(a.Out, "Please answer with one of: %s.\n", strings.Join(among, ", "))
	}
}

// checkProposal reads the declarations as they would be, so that nothing is
// written that a run would refuse.
func (a *app) checkProposal(found *adopt.Repo, p *adopt.Proposal) error {
	fsys, err := proposed(found, p)
	if err != nil {
		return err
	}
	if _, err := graph.Load(fsys, found.Name); err != nil {
		fmt.Fprintln(a.Err, err)
		return exit{
			exitWrong,
			"\ngrayloft: these declarations have the errors above, so nothing was written. Answer the " +
				"questions differently, or write them by hand: grayloft adopt --dry-run shows them in full",
		}
	}
	return nil
}

func (a *app) writeProposal(f adoptFlags, root string, p *adopt.Proposal) error {
	for _, file := range p.Files {
		a.printDiff(file)
	}
	if f.dry {
		fmt.Fprintf(a.Out, "%s would be written; nothing was written.\n", term.Count(len(p.Files), "file", "files"))
		return nil
	}
	yes, err := a.choose(f, fmt.Sprintf("Write %s?", term.Count(len(p.Files), "file", "files")), "yes", []string{"yes", "no"})
	switch {
	case errors.Is(err, errNoAnswer):
		return exit{exitWrong, "Nothing was written: nobody answered. grayloft adopt --yes accepts the defaults."}
	case yes == "no":
		return exit{exitFailed, "Nothing was written."}
	}
	for _, file := range p.Files {
		if err := writeDeclaration(root, file); err != nil {
			return machineFault("%v; the files written before this one remain", err)
		}
	}
	a.afterAdopting(p)
	return nil
}

// writeDeclaration writes a file, unless it changed since it was read.
func writeDeclaration(root string, file adopt.File) error {
	full := filepath.Join(root, filepath.FromSlash(file.Path))
	now, err := os.ReadFile(full)
	switch {
	case errors.Is(err, fs.ErrNotExist) && file.Old == "":
		f, err := os.OpenFile(full, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil {
			return err
		}
		_, err = f.WriteString(file.New)
		return errors.Join(err, f.Close())
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	case string(now) != file.Old:
		return fmt.Errorf("%s changed meanwhile and was not written: run grayloft adopt again", file.Path)
	}
	return maybe.WriteFile(full, []byte(file.New), 0o644)
}

// printDiff shows what would be added to a file.
func (a *app) printDiff(file adopt.File) {
	if a.Quiet {
		return
	}
	fmt.Fprintln(a.Out, a.Bold(file.Path)+orElse(file.Old == "", a.Soft("  new"), ""))
	text := udiff.Unified("a", "b", file.Old, file.New)
	for i, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		if i < 2 || (file.Old == "" && strings.HasPrefix(line, "@@")) {
			continue
		}
		fmt.Fprintln(a.Out, term.Fit("  "+line, a.Width()))
	}
	fmt.Fprintln(a.Out)
}

// afterAdopting suggests the next steps.
func (a *app) afterAdopting(p *adopt.Proposal) {
	names := map[string]bool{}
	for _, x := range p.Projects {
		for _, t := range x.Tasks {
			if t.Sort == adopt.Reusable && (t.Name == "build" || t.Name == "test") {
				names[t.Name] = true
			}
		}
	}
	tasks := strings.Join(sortedKeys(names), " ")
	if tasks == "" {
		tasks = "--pick all"
	}
	fmt.Fprintf(a.Out, "Wrote %s. Next:\n\n", term.Count(len(p.Files), "file", "files"))
	rows := [][]string{
		{"grayloft run " + tasks, "run them; the second time, unchanged tasks are current"},
		{"grayloft graph", "which project needs which"},
		{"grayloft show TASK", "the exact command, and where each part of it comes from"},
		{"grayloft reach FILE", "what a file can affect"},
		{"grayloft why TASK", "why a task runs again"},
	}
	for _, r := range rows {
		fmt.Fprintf(a.Out, "  %s  %s\n", term.Pad(r[0], 26), a.Soft(r[1]))
	}
	fmt.Fprintln(
		a.Out,
		"\nThen read the declarations: reuse is right only if reads and writes name every file that matters.\n"+
			"Commit them when they are right.",
	)
}
