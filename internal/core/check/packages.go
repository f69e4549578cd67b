package check

import (
	"cmp"
	"fmt"
	"path"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/manifest"
)

// declaring is a manifest with the project that it belongs to.
type declaring struct {
	manifest.Manifest
	project string
}

func (in *Inspection) readManifests() (out []declaring) {
	var commands strings.Builder
	for _, t := range in.Graph.Tasks {
		commands.WriteString(strings.Join(t.Decl.Run.Words(), " ") + "\n")
	}
	repo := &manifest.Repo{
		FS: in.FS, Files: in.own, Imports: in.sources, Commands: commands.String(), Provides: in.Graph.Repo.Provides,
	}
	for _, m := range manifest.Read(repo) {
		d := declaring{Manifest: m}
		if p := in.Graph.Owner(m.File); p != nil {
			d.project = p.Name
		}
		out = append(out, d)
	}
	return out
}

func (m *declaring) at(e manifest.Entry, subject, format string, args ...any) Finding {
	return at(decl.Pos{File: e.File, Line: e.Line, Col: e.Column}, m.project, subject, format, args...)
}

// within returns a file from the directory of the manifest.
func (m *declaring) within(file string) string { return strings.TrimPrefix(file, path.Dir(m.File)+"/") }

// dependencyUndeclared finds packages that are imported and not in the manifest.
func dependencyUndeclared(in *Inspection) (out []Finding) {
	for _, m := range in.manifests {
		seen := map[string]bool{}
		for _, u := range m.Uses {
			if seen[u.Name] || !u.Certain || m.Entry(u.Name) != nil {
				continue
			}
			seen[u.Name] = true
			advice := cmp.Or(u.Advice, fmt.Sprintf(m.Words.Add, u.Name)+"; the version is your choice")
			pos := decl.Pos{File: u.File, Line: u.Line, Col: u.Column}
			out = append(out, at(pos, m.project, u.Name, "%q is imported and not in %s: %s", u.Name, m.File, advice))
		}
	}
	return out
}

// dependencyUnused finds packages that are in the manifest and never used.
func dependencyUnused(in *Inspection) (out []Finding) {
	for _, m := range in.manifests {
		for _, e := range m.Entries {
			if e.Scope == manifest.Indirect || e.Scope == manifest.Other || !m.Users(e.Name).None() || m.Mentions(e.Name) {
				continue
			}
			f := m.at(e, e.Name, "nothing imports %q: %s", e.Name, cmp.Or(e.Advice, "remove it"))
			f.Edits = e.Remove
			out = append(out, f)
		}
	}
	return out
}

// dependencyScope finds packages that are declared for others than those who use
// them.
func dependencyScope(in *Inspection) (out []Finding) {
	for _, m := range in.manifests {
		for _, e := range m.Entries {
			if says := m.misjudged(e); says != "" {
				f := m.at(e, e.Name, "%s", says)
				f.Edits = e.Move
				out = append(out, f)
			}
		}
	}
	return out
}

// misjudged says what is wrong with the scope of an entry; nothing if it is right.
func (m *declaring) misjudged(e manifest.Entry) string {
	users := m.Users(e.Name)
	switch {
	case e.Scope == manifest.Indirect:
		first := cmp.Or(users.Code, users.Test, users.Types)
		if first == nil {
			return ""
		}
		return fmt.Sprintf("%q is imported by %s: remove // indirect", e.Name, first.File)
	case m.Words.Development == "" || m.IsDeclaredTwice(e):
	case e.Scope == manifest.Shipped && users == (manifest.Users{Test: users.Test}) && users.Test != nil && !m.Mentions(e.Name):
		return fmt.Sprintf("%q is used only in %s: move it to %s", e.Name, m.within(users.Test.File), m.Words.Development)
	case e.Scope == manifest.Development && users.Code != nil && !m.Bundled:
		return fmt.Sprintf(
			"%q is used in %s, which is shipped: move it to %s", e.Name, m.within(users.Code.File), m.Words.Shipped,
		)
	}
	return ""
}

// outOfOrder finds entries of lists that their ecosystem's own tool does not order.
func outOfOrder(in *Inspection) (out []Finding) {
	for _, m := range in.manifests {
		out = append(out, misplacedIn(m.project, m.Misplaced)...)
	}
	return append(out, misplacedIn("", manifest.MisplacedKeys(manifest.PinsFile, in.text(manifest.PinsFile)))...)
}

func misplacedIn(project string, list []manifest.Misplaced) (out []Finding) {
	for _, x := range list {
		where := fmt.Sprintf("before %q", x.Before)
		if x.Before == "" {
			where = fmt.Sprintf("behind %q", x.After)
		}
		pos := decl.Pos{File: x.File, Line: x.Line, Col: x.Column}
		f := at(pos, project, x.Name, "%q is out of order: move it %s", x.Name, where)
		if f.Edits = x.Edits; len(f.Edits) == 0 {
			f.Message += "; it shares a line, or has several, so a person moves it"
		}
		out = append(out, f)
	}
	return out
}
