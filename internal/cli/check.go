package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2/maybe"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/heap"
)

// checkFlags are what a person gave to check.
type checkFlags struct {
	pick     string
	as       string
	baseline string
	write    string
	fix      bool
	updates  bool
}

func (a *app) checkCommand() *cobra.Command {
	var f checkFlags
	list := make([]string, len(check.Order))
	for i, r := range check.Order {
		list[i] = fmt.Sprintf("  %-15s %s", r, check.Rules[r].Finds)
	}
	c := &cobra.Command{
		Use: "check [RULE…]", Short: "Find declarations that have gone stale, and say what to change",
		Long: "Reads the repository and runs nothing. Each finding says where, and what to change; --fix makes the changes that\n" +
			"a machine can make. --updates asks the registries that go and npm are configured for. Exit code 1 means that there\n" +
			"is an error; warnings alone end with 0. The rules:\n\n" +
			strings.Join(list, "\n") + "\n\n" +
			"[check.RULE] in grayloft.toml sets level = \"error\", \"warning\" or \"off\", and allow = [...] with what not to report.",
		Example: "  grayloft check\n  grayloft check needs-missing needs-unused --fix\n  grayloft check --pick changed\n" +
			"  grayloft check --updates\n  grayloft check --write-baseline known.json; grayloft check --baseline known.json",
		ValidArgs: func() (names []string) {
			for _, r := range check.Order {
				names = append(names, string(r))
			}
			return names
		}(),
		RunE: func(cmd *cobra.Command, args []string) error { return a.check(cmd.Context(), f, args) },
	}
	c.Flags().StringVar(&f.pick, "pick", "", "only projects with a task that this expression selects")
	c.Flags().StringVar(&f.as, "as", "text", "text or sarif")
	c.Flags().BoolVar(&f.fix, "fix", false, "make the changes that a machine can make, and report the rest")
	c.Flags().BoolVar(&f.updates, "updates", false, "ask the registries of Go and npm which newer versions there are")
	c.Flags().StringVar(&f.baseline, "baseline", "", "report only what is not in this file")
	c.Flags().StringVar(&f.write, "write-baseline", "", "write what is found to this file, and succeed")
	return c
}

func (a *app) check(ctx context.Context, f checkFlags, args []string) error {
	rules, err := rulesOf(args)
	if err != nil {
		return err
	}
	switch {
	case f.as != "text" && f.as != "sarif":
		return wrong("--as %q is not valid: text or sarif", f.as)
	case f.write != "" && (f.fix || f.baseline != ""):
		return wrong("--write-baseline records what is there: give it without --fix and --baseline")
	}
	if slices.Contains(rules, check.UpdateAvailable) && !f.updates {
		return wrong("%s asks registries: give --updates", check.UpdateAvailable)
	}
	heap.CollectLater(256 << 20) // what is read of a repository is in use until the end
	s := &checkSession{a: a, checkFlags: f, rules: rules}
	found, err := s.found(ctx)
	if err != nil {
		return err
	}
	if err := s.sparse(ctx, found); err != nil {
		return err
	}
	fixed := 0
	for round := 0; f.fix && round < fixRounds; round++ {
		n, err := a.fix(s.root, found)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
		fixed += n
		if found, err = s.found(ctx); err != nil {
			return err
		}
	}
	if f.write != "" {
		if err := s.unasked(); err != nil {
			return err
		}
		return a.writeBaseline(f.write, found)
	}
	old := 0
	if f.baseline != "" {
		text, err := os.ReadFile(filepath.Join(a.dir, f.baseline))
		if err != nil {
			return wrong("--baseline: %v", err)
		}
		if found, old, err = check.New(found, text); err != nil {
			return wrong("--baseline %s: %v", f.baseline, err)
		}
	}
	err = a.reportCheck(f, found, checkCounts{fixed, old, s.isUnanswered()})
	if fault := s.unasked(); fault != nil {
		return fault
	}
	return err
}

func rulesOf(args []string) (out []check.Rule, err error) {
	for _, name := range args {
		if _, ok := check.Rules[check.Rule(name)]; !ok {
			list := make([]string, len(check.Order))
			for i, r := range check.Order {
				list[i] = string(r)
			}
			if c := decl.Closest(name, list); c != "" {
				return nil, wrong("%q is not a rule; did you mean %q?", name, c)
			}
			return nil, wrong("%q is not a rule; the rules are %s", name, strings.Join(list, ", "))
		}
		out = append(out, check.Rule(name))
	}
	return out, nil
}

// fixRounds is how often edits are made and the repository is checked again:
// edits that touch each other are made one after the other.
const fixRounds = 5

// fix makes the edits of findings: all of a file or none. It returns how many
// findings it applied.
func (a *app) fix(root string, found []check.Finding) (applied int, err error) {
	names := map[string]bool{}
	for _, f := range found {
		for _, e := range f.Edits {
			names[e.File] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		file := filepath.Join(root, filepath.FromSlash(name))
		info, err := os.Stat(file)
		if err != nil {
			return applied, machineFault("%v", err)
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return applied, machineFault("%v", err)
		}
		after, n, err := check.Apply(name, string(text), found)
		if err != nil {
			return applied, machineFault("%s was left as it is: %v", name, err)
		}
		if err := maybe.WriteFile(file, []byte(after), info.Mode().Perm()); err != nil {
			return applied, machineFault("%v", err)
		}
		applied += n
	}
	return applied, nil
}

func (a *app) writeBaseline(name string, found []check.Finding) error {
	text, err := check.WriteBaseline(found)
	if err == nil {
		err = maybe.WriteFile(filepath.Join(a.dir, name), text, 0o644)
	}
	if err != nil {
		return machineFault("%v", err)
	}
	fmt.Fprintf(a.Err, "%s recorded in %s.\n", amount.Count(len(found), "finding", "findings"), name)
	return nil
}

type checkJSON struct {
	Findings []check.Finding        `json:"findings"`
	Totals   map[check.Severity]int `json:"totals"`
}

// checkCounts is what a report says beside the findings.
type checkCounts struct {
	fixed      int  // changes that were made
	old        int  // findings of the baseline
	unanswered bool // some registry did not answer
}

func (a *app) reportCheck(f checkFlags, found []check.Finding, n checkCounts) error {
	totals := map[check.Severity]int{check.Error: 0, check.Warning: 0}
	fixable := 0
	for _, x := range found {
		totals[x.Severity]++
		if len(x.Edits) > 0 {
			fixable++
		}
	}
	switch {
	case f.as == "sarif":
		text, err := check.SARIF(found)
		if err != nil {
			return err
		}
		fmt.Fprint(a.Out, string(text))
	case a.Format == "json":
		if err := a.JSON(checkJSON{found, totals}); err != nil {
			return err
		}
	default:
		a.printFound(found)
		fmt.Fprintln(a.Out, summary(totals, fixable, n))
	}
	if totals[check.Error] > 0 {
		return errFailed
	}
	return nil
}

// printFound prints a line for each finding. Of many that one rule has at one place, such as for
// each file of a directory, it prints the first ones and how many there are beyond.
func (a *app) printFound(found []check.Finding) {
	const few, shown = 5, 3
	for i := 0; i < len(found); {
		x := found[i]
		level := string(x.Severity)
		if x.Severity == check.Error {
			level = a.Tint(decide.Failed, level)
		}
		place, rule := fmt.Sprintf("%s:%d:%d", x.File, x.Line, x.Column), a.Soft("["+string(x.Rule)+"]")
		end := i + 1
		for end < len(found) && isSamePlace(found[end], x) {
			end++
		}
		more := end - i - shown
		if end-i <= few || a.Verbose {
			more = 0
		}
		for ; i < end-more; i++ {
			fmt.Fprintf(a.Out, "%s  %s  %s  %s\n", a.Bold(place), level, found[i].Message, rule)
		}
		if more > 0 {
			fmt.Fprintf(a.Out, "%s  %s  %d more of this (--verbose lists them)  %s\n", a.Bold(place), level, more, rule)
		}
		i = end
	}
}

func isSamePlace(x, y check.Finding) bool {
	return x.Rule == y.Rule && x.File == y.File && x.Line == y.Line && x.Column == y.Column
}

func summary(totals map[check.Severity]int, fixable int, counts checkCounts) string {
	text := "Nothing to change."
	if n := totals[check.Error] + totals[check.Warning]; n > 0 {
		text = fmt.Sprintf(
			"%s, %s",
			amount.Count(totals[check.Error], "error", "errors"),
			amount.Count(totals[check.Warning], "warning", "warnings"),
		)
		if fixable > 0 {
			text += fmt.Sprintf("; --fix changes %d", fixable)
		}
		text += "."
	}
	if counts.fixed > 0 {
		text = fmt.Sprintf("Made %s. ", amount.Count(counts.fixed, "change", "changes")) + text
	}
	if counts.unanswered {
		text += " Some versions are not known."
	}
	if counts.old > 0 {
		text += fmt.Sprintf(" %s in the baseline.", amount.Count(counts.old, "more is", "more are"))
	}
	return text
}
