package cli

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2/maybe"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/translate"
	"grayloft.example/grayloft/internal/machine/files"
)

func (a *app) translateCommand() *cobra.Command {
	wrap := ""
	c := &cobra.Command{
		Use: "translate 'OLD COMMAND'", Short: "Find the Gray Loft command that does what an old command did",
		Long: "Compares what an old command runs (a script of a package.json, a target of a Makefile, go, cargo, or a script with\n" +
			"its variables) with what the tasks run, and prints the command that does the same. It runs nothing. Where several\n" +
			"tasks do the same, it lists them; where none does, it says which are alike and what differs, and ends with 1.",
		Example: "  grayloft translate 'npm run build -w passenger-web'\n  grayloft translate 'LTO=thin make -C libs/tides build'\n" +
			"  grayloft translate --wrap tools/build.sh 'go build ./services/booking/...'",
		Args: words(1, -1, "a command, such as make build"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.translate(cmd.Context(), args, wrap) },
	}
	c.Flags().StringVar(&wrap, "wrap", "", "write a script to this file that prints the new command and runs it")
	return c
}

// translationJSON is what translate prints as JSON.
type translationJSON struct {
	Commands []string         `json:"commands"` // empty if some part has no task, or several
	Parts    []translate.Part `json:"parts"`
}

func (a *app) translate(ctx context.Context, args []string, wrap string) error {
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	names, err := r.git.Files(ctx)
	if err != nil {
		return err
	}
	old := strings.Join(args, " ")
	repo := &translate.Repo{Graph: r.graph, Files: names, Dir: r.here, Read: func(name string) string {
		text, _ := fs.ReadFile(files.Reading(r.root), name) // what is not there is empty
		return string(text)
	}}
	parts, err := translate.Translate(repo, old)
	if err != nil {
		return wrong("%v", err)
	}
	var chosen []translate.Candidate
	clear := true
	for _, p := range parts {
		clear = clear && len(p.Candidates) == 1
		if clear {
			chosen = append(chosen, p.Candidates[0])
		}
	}
	out := translationJSON{Commands: []string{}, Parts: parts}
	if clear {
		out.Commands = translate.Commands(chosen)
	}
	switch {
	case wrap != "" && !clear:
		a.tellParts(parts)
		return wrong("--wrap needs exactly one task for each part of the old command")
	case wrap != "":
		return a.wrap(ctx, wrapping{r, repo, old, chosen}, wrap)
	case a.Format == "json":
		err = a.JSON(out)
	case clear:
		fmt.Fprintln(a.Out, strings.Join(out.Commands, " && "))
		if !a.Quiet {
			for _, c := range chosen {
				fmt.Fprintln(a.Err, a.Soft(c.Because))
			}
		}
	default:
		a.tellParts(parts)
	}
	if err == nil && !a.isTranslated(parts) {
		err = errFailed
	}
	return err
}

func (a *app) isTranslated(parts []translate.Part) bool {
	for _, p := range parts {
		if len(p.Candidates) == 0 {
			return false
		}
	}
	return true
}

// tellParts says for each part what does the same, or what is alike.
func (a *app) tellParts(parts []translate.Part) {
	for _, p := range parts {
		switch {
		case len(p.Candidates) > 0:
			if len(p.Candidates) > 1 {
				fmt.Fprintf(a.Err, "%s do the same as %s:\n", amount.Count(len(p.Candidates), "task", "tasks"), p.Text)
			}
			for _, c := range p.Candidates {
				fmt.Fprintf(a.Out, "%s\n", translate.Commands([]translate.Candidate{c})[0])
				fmt.Fprintf(a.Err, "  %s\n", a.Soft(c.Because))
			}
		case len(p.Near) > 0:
			fmt.Fprintf(a.Err, "No task does the same as %s. What is alike:\n", p.Text)
			for _, n := range p.Near[:min(len(p.Near), nearShown)] {
				fmt.Fprintf(a.Err, "  %s: %s\n", n.Task, n.Why)
			}
			if more := len(p.Near) - nearShown; more > 0 {
				fmt.Fprintf(a.Err, "  and %d more\n", more)
			}
		default:
			fmt.Fprintf(a.Err, "No task runs %s, or anything like it; grayloft tasks lists them all.\n", p.Text)
		}
	}
}

// nearShown is how many tasks that are alike are listed.
const nearShown = 5

// wrapping is an old command with the tasks that do what it did.
type wrapping struct {
	*repository
	repo   *translate.Repo
	old    string
	chosen []translate.Candidate
}

// wrap writes a script in place of an old one. It replaces a file only if git has it as
// it is.
func (a *app) wrap(ctx context.Context, w wrapping, name string) error {
	full := name
	if !filepath.IsAbs(full) {
		full = filepath.Join(a.dir, name)
	}
	rel, err := filepath.Rel(w.root, full)
	if err != nil || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return wrong("--wrap %s: the file has to be in the repository", name)
	}
	rel = filepath.ToSlash(rel)
	for _, c := range w.chosen {
		if w.repo.Runs(c.Task, rel) {
			return wrong("--wrap %s: %s runs this file itself; let its run say what the file does first", name, c.Task)
		}
	}
	if _, err := os.Lstat(full); err == nil {
		saved, err := w.git.IsCommitted(ctx, rel)
		if err != nil {
			return err
		}
		if !saved {
			return wrong("--wrap %s: the file has changes that git does not have; commit them first", name)
		}
	}
	err = maybe.WriteFile(full, []byte(w.repo.Wrap(rel, w.old, w.chosen)), 0o755)
	if err == nil {
		err = os.Chmod(full, 0o755) // an old file may not have been executable
	}
	if err != nil {
		return machineFault("%v", err)
	}
	fmt.Fprintf(a.Err, "%s runs %s.\n", name, strings.Join(translate.Commands(w.chosen), " && "))
	return nil
}
