package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/google/renameio/v2/maybe"

	"grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/survey"
	"grayloft.example/grayloft/internal/term"
)

// checkProposal reads the declarations as they would be, so that nothing is
// written that a run would refuse.
func (a *app) checkProposal(found *survey.Repo, p *adopt.Proposal) error {
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

// writeProposal shows what would be written, and writes it; not if that is declined.
func (a *app) writeProposal(f adoptFlags, root string, p *adopt.Proposal) (written bool, err error) {
	for _, file := range p.Files {
		a.printDiff(file)
	}
	if f.dry {
		fmt.Fprintf(a.Out, "%s would be written; nothing was written.\n", amount.Count(len(p.Files), "file", "files"))
		return true, nil
	}
	yes, err := a.choose(f, fmt.Sprintf("Write %s?", amount.Count(len(p.Files), "file", "files")), "yes", []string{"yes", "no"})
	switch {
	case errors.Is(err, errNoAnswer):
		return false, exit{exitWrong, "Nothing was written: nobody answered. grayloft adopt --yes accepts the defaults."}
	case yes == "no":
		return false, nil
	}
	for _, file := range p.Files {
		if err := writeDeclaration(root, file); err != nil {
			return false, machineFault("%v; the files written before this one remain", err)
		}
	}
	a.afterAdopting(p)
	return true, nil
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
			if t.Sort == survey.Reusable && (t.Name == "build" || t.Name == "test") {
				names[t.Name] = true
			}
		}
	}
	tasks := strings.Join(sortedKeys(names), " ")
	if tasks == "" {
		tasks = "--pick all"
	}
	fmt.Fprintf(a.Out, "Wrote %s. Next:\n\n", amount.Count(len(p.Files), "file", "files"))
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
