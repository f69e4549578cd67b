// Package check finds what has gone stale in the declarations of a repository:
// relations between projects that nothing declares or nothing needs, patterns that
// match nothing, outputs that git tracks, names that nobody uses, results that are
// never shared. It reads files and runs nothing. Each finding says where, in one
// sentence what to change, and, where a machine can do it, the exact edit.
package check

import (
	"cmp"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/edit"
	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/manifest"
)

// Rule is the name of a rule.
type Rule string

// The rules.
const (
	NeedsMissing  Rule = "needs-missing"
	NeedsUnused   Rule = "needs-unused"
	PatternEmpty  Rule = "pattern-empty"
	WritesTracked Rule = "writes-tracked"
	Unused        Rule = "unused"
	NeverShared   Rule = "never-shared"
	HomePrivate   Rule = "home-private"

	DependencyUndeclared Rule = "dependency-undeclared"
	DependencyUnused     Rule = "dependency-unused"
	DependencyScope      Rule = "dependency-scope"
	OutOfOrder           Rule = "order"

	VersionInManifest Rule = "version-in-manifest"
	VersionDiffers    Rule = "version-differs"
	VersionHeld       Rule = "version-held"
	UpdateAvailable   Rule = "update-available"
)

// Severity says how serious a finding is.
type Severity string

// The severities; a rule that is off has none.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Off     Severity = "off"
)

// About describes a rule.
type About struct {
	Level Severity // unless the repository says otherwise
	Finds string
	find  func(*Inspection) []Finding
}

// Rules are all rules. [Order] is the order in which they are shown.
var Rules = map[Rule]About{
	NeedsMissing: {
		Error,
		"an import, a manifest entry, a repo: read or an after that crosses to a project not in needs",
		needsMissing,
	},
	NeedsUnused:          {Warning, "a need that nothing uses", needsUnused},
	DependencyUndeclared: {Error, "an external package that is imported and not in the project's manifest", dependencyUndeclared},
	DependencyUnused:     {Warning, "a package in a manifest that nothing imports, runs or configures", dependencyUnused},
	DependencyScope: {
		Warning,
		"a package that is shipped and only tests use it, or the other way round; an indirect one that is imported",
		dependencyScope,
	},

	OutOfOrder: {
		Warning,
		"entries of a dependency list out of order, where the ecosystem's own tool does not order them",
		outOfOrder,
	},

	VersionInManifest: {Error, "a version in a manifest that pins.toml decides otherwise", versionInManifest},
	VersionDiffers:    {Warning, "one package at several versions", versionDiffers},
	VersionHeld:       {Error, "a version beyond what a hold in pins.toml allows", versionHeld},
	UpdateAvailable:   {Warning, "with --updates: a newer version that the holds allow", updateAvailable},

	PatternEmpty:  {Error, "reads that match no file", patternEmpty},
	WritesTracked: {Error, "outputs that git tracks", writesTracked},
	Unused:        {Warning, "kinds, probes, settings and picks that nobody uses, and declarations that nothing reads", unused},
	NeverShared:   {Warning, "tasks without probes or writes, whose results stay where they were made", neverShared},
	HomePrivate:   {Error, "directories of the home, in scratch and probes, that may have private files", homePrivate},
}

// Order lists the rules.
var Order = []Rule{
	NeedsMissing, NeedsUnused, DependencyUndeclared, DependencyUnused, DependencyScope, OutOfOrder,
	VersionInManifest, VersionDiffers, VersionHeld, UpdateAvailable, PatternEmpty, WritesTracked, Unused, NeverShared,
	HomePrivate,
}

// Finding is one thing to change.
type Finding struct {
	Rule     Rule        `json:"rule"`
	Severity Severity    `json:"severity"`
	File     string      `json:"file"`   // from the root
	Line     int         `json:"line"`   // from 1
	Column   int         `json:"column"` // from 1, in characters
	Project  string      `json:"project"`
	Message  string      `json:"message"`
	Edits    []edit.Edit `json:"edits"` // that change what was found; none: no machine can
	// Subject names what the finding is about. With rule and project it identifies
	// a finding, whatever its line.
	Subject string `json:"subject"`
}

// Repo is what is checked.
type Repo struct {
	FS      fs.FS
	Graph   *graph.Graph
	Files   []string // tracked by git or not ignored; from the root, sorted
	Tracked []string // by git; from the root
	// Ignored are paths at which reads of tasks start and that git ignores: what is there differs
	// between checkouts.
	Ignored map[string]bool
	// Submodules are the directories of submodules: what they declare and depend on is theirs.
	Submodules decl.Inner
	// Imports reads what the files import; it is made if there is none.
	Imports *imports.Reader
}

// Run applies rules, all of them if none is named, and returns what they find.
func Run(r *Repo, only []Rule) []Finding { return Inspect(r).Findings(only) }

// Inspection is one check, with what several rules use.
type Inspection struct {
	*Repo
	// Versions are the versions of packages that there are, as registries say; nil if
	// they were not asked.
	Versions map[Package][]string

	own       []string // files, without those of repositories inside this one
	relations *relations
	manifests []declaring
	sources   *imports.Reader
	pins      manifest.Pins
	texts     map[string]string
}

// Inspect reads what the rules use.
func Inspect(r *Repo) *Inspection {
	in := &Inspection{Repo: r, own: ownFiles(r), sources: r.Imports}
	if in.sources == nil {
		in.sources = imports.NewReader(r.FS, r.Files)
	}
	in.pins, _ = manifest.ReadPins(in.text(manifest.PinsFile)) // PinsProblem tells what is wrong in it
	var group sync.WaitGroup
	group.Go(func() { in.relations = in.related() })
	group.Go(func() { in.manifests = in.readManifests() })
	group.Wait()
	return in
}

// ownFiles returns the files of a repository without those of repositories inside it, unless it
// has projects there.
func ownFiles(r *Repo) []string {
	inner := slices.DeleteFunc(append(decl.InnerOf(r.Files), r.Submodules...), func(dir string) bool {
		return slices.ContainsFunc(r.Graph.Projects, func(p *graph.Project) bool { return strings.HasPrefix(p.Dir+"/", dir+"/") })
	})
	if len(inner) == 0 {
		return r.Files
	}
	return slices.DeleteFunc(slices.Clone(r.Files), inner.Has)
}

// Findings applies rules, all of them if none is named, and returns what they find,
// sorted by place. What the repository allows or turned off is left out.
func (in *Inspection) Findings(only []Rule) []Finding {
	out := []Finding{}
	for _, rule := range Order {
		set := in.Graph.Repo.Checks[string(rule)]
		level := cmp.Or(Severity(set.Level.Text), Rules[rule].Level)
		if level == Off || len(only) > 0 && !slices.Contains(only, rule) {
			continue
		}
		for _, f := range Rules[rule].find(in) {
			if !allows(set, f.Subject) {
				f.Rule, f.Severity, f.Edits = rule, level, append([]edit.Edit{}, f.Edits...)
				out = append(out, f)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column),
			strings.Compare(a.Message, b.Message))
	})
	return out
}

// allows tells whether a rule's allow names a subject, as it is or as a pattern.
func allows(set decl.Check, subject string) bool {
	return slices.ContainsFunc(set.Allow.Items, func(it decl.Item) bool {
		if it.Text == subject {
			return true
		}
		p, err := glob.Parse(it.Text)
		return err == nil && p.MatchExact(subject)
	})
}

// Problems returns what is wrong with the names of rules and levels that a
// repository sets.
func Problems(repo *decl.Repo) decl.Problems {
	var out decl.Problems
	for name, set := range repo.Checks {
		if _, ok := Rules[Rule(name)]; !ok {
			fix := "the rules are " + names()
			if c := decl.Closest(name, strings.Split(names(), ", ")); c != "" {
				fix = fmt.Sprintf("did you mean %q?", c)
			}
			out = append(out, decl.Problem{Pos: set.Pos, Message: fmt.Sprintf("%q is not a rule of check", name), Advice: fix})
		}
		if l := set.Level; l.Text != "" && l.Text != string(Error) && l.Text != string(Warning) && l.Text != string(Off) {
			out = append(
				out,
				decl.Problem{
					Pos:     l.Pos,
					Message: fmt.Sprintf("level = %q is not valid", l.Text),
					Advice:  `write "error", "warning" or "off"`,
				},
			)
		}
	}
	return out.Sorted()
}

func names() string {
	list := make([]string, len(Order))
	for i, r := range Order {
		list[i] = string(r)
	}
	return strings.Join(list, ", ")
}

// text returns the content of a file; empty if it cannot be read.
func (in *Inspection) text(name string) string {
	if in.texts == nil {
		in.texts = map[string]string{}
	}
	text, ok := in.texts[name]
	if !ok {
		data, err := fs.ReadFile(in.FS, name)
		if err == nil {
			text = string(data)
		}
		in.texts[name] = text
	}
	return text
}

// fresh returns the content of a file without keeping it.
func (in *Inspection) fresh(name string) string {
	data, err := fs.ReadFile(in.FS, name)
	if err != nil {
		return ""
	}
	return string(data)
}

// Apply makes the edits of findings in the text of a file, as [edit.Apply] does.
func Apply(file, text string, findings []Finding) (after string, applied int, err error) {
	changes := make([][]edit.Edit, len(findings))
	for i, f := range findings {
		changes[i] = f.Edits
	}
	return edit.Apply(file, text, changes)
}

// at returns a finding at a place.
func at(pos decl.Pos, project, subject, format string, args ...any) Finding {
	return Finding{
		File: pos.File, Line: max(pos.Line, 1), Column: max(pos.Col, 1), Project: project, Subject: subject,
		Message: fmt.Sprintf(format, args...),
	}
}
