// Package change finds the tasks that a set of changed files touches: those
// that read one of them, and those whose own declaration changed. It takes
// paths and two graphs, and returns tasks. Package graph then says what the changes affect
// through dependencies.
package change

import (
	"cmp"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
)

// Touch says how a task is touched.
type Touch struct {
	Task *graph.Task
	By   string // a path, or "its declaration"
	// Through says how a path that the task does not read itself affects it:
	// through the project that offers it, or the probe that reads it.
	Through string
}

// OwnDeclaration is the value of By in [Touch] for a changed declaration.
const OwnDeclaration = "its declaration"

// Touched returns the tasks that the changed paths touch, in graph order, each
// with the first such path. Base is what changes are measured against, for
// declarations; without it, declarations are not compared. Moved are files, changed or not, that may
// be in another project than in the base: see [Base.Moved].
func Touched(g *graph.Graph, base *Base, paths, moved []string) []Touch {
	byOwner := map[*graph.Project][]string{}
	for _, p := range paths {
		if !g.IsOutput(p) {
			byOwner[g.Owner(p)] = append(byOwner[g.Owner(p)], p)
		}
	}
	offered := map[*graph.Project]string{}
	for p, files := range byOwner {
		if p == nil {
			continue
		}
		for _, f := range files {
			if p.OffersFile(g, f) {
				offered[p] = f
				break
			}
		}
	}
	var out []Touch
	for _, t := range g.Tasks {
		if by, through := touchedBy(g, t, paths, offered); by != "" {
			out = append(out, Touch{t, by, through})
		} else if base != nil && Declaration(t) != base.Declared[t.Addr()] {
			out = append(out, Touch{Task: t, By: OwnDeclaration})
		} else if f := movedFor(g, base, t, moved); f != "" {
			out = append(out, Touch{t, f, "in another project than before"})
		}
	}
	return out
}

func touchedBy(g *graph.Graph, t *graph.Task, paths []string, offered map[*graph.Project]string) (by, through string) {
	for _, p := range paths {
		if t.ReadsFile(p) && !g.IsOutput(p) {
			return p, ""
		}
	}
	if t.NeedsRead() {
		for _, q := range t.Project.NeedsAll {
			if f, ok := offered[q]; ok {
				return f, "offered by " + q.Name
			}
		}
	}
	for _, it := range t.Decl.Probes.Items {
		probe := g.Repo.Probes[it.Text]
		for _, p := range paths {
			if probe.ReadsFile(t.Project.Dir, p) {
				return p, "read by probe " + it.Text
			}
		}
	}
	return "", ""
}

// Declaration returns a digest of everything in a task's resolved declaration
// that can alter its result. Help, slots and timeout are not part of it.
func Declaration(t *graph.Task) digest.Digest {
	var b strings.Builder
	put := func(name string, vals ...string) {
		b.WriteString(name)
		for _, v := range vals {
			b.WriteString("\x00")
			b.WriteString(v)
		}
		b.WriteString("\x01")
	}
	truth := func(v bool) string {
		if v {
			return "yes"
		}
		return "no"
	}
	put("dir", t.Project.Dir)
	put("run", t.Decl.Run.Words()...)
	put("reads", append([]string{truth(t.ReadsGiven())}, t.Decl.Reads.Texts()...)...)
	put("writes", append([]string{truth(t.WritesGiven())}, t.Decl.Writes.Texts()...)...)
	put("portable", truth(t.Portable))
	put("scratch", t.Decl.Scratch.Texts()...)
	put("isolation", string(t.Isolation), truth(t.Network))
	for _, name := range t.Settings {
		put("setting", name, t.Graph().Chosen[name])
	}
	for _, v := range t.EnvUnkeyed {
		put("unkeyed", v.Name)
	}
	for _, v := range t.Secrets {
		put("secret", v.Name)
	}
	put("reuse", string(t.Reuse))
	for _, v := range t.Env {
		put("env", v.Name, truth(v.Given), v.Value)
	}
	for _, u := range t.Dependencies {
		put("after", u.Addr())
	}
	put("probes", truth(t.ProbesGiven()))
	probes := slices.SortedFunc(slices.Values(t.Decl.Probes.Texts()), cmp.Compare[string])
	for _, name := range probes {
		if p := t.Graph().Repo.Probes[name]; p != nil {
			put("probe", append([]string{name, truth(p.PerProject)}, p.Asks()...)...)
		}
	}
	if t.NeedsRead() {
		for _, q := range t.Project.NeedsAll {
			put("needs", append([]string{q.Name, q.Dir, truth(q.Offers.Given)}, q.Offers.Texts()...)...)
		}
	}
	return digest.Of([]byte(b.String()))
}
