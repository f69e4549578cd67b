package graph

import (
	"maps"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
)

// Owner returns the innermost project whose directory contains a path (from the
// root), or nil. The path must be clean; no project contains an absolute one.
func (g *Graph) Owner(name string) *Project {
	if strings.HasPrefix(name, "/") {
		return nil
	}
	for i := strings.LastIndexByte(name, '/'); i > 0; i = strings.LastIndexByte(name[:i], '/') {
		if p, ok := g.byDir[name[:i]]; ok {
			return p
		}
	}
	return g.byDir["."]
}

// HasNested tells whether there are other projects below the project's directory.
func (p *Project) HasNested() bool { return p.nested }

// findNested notes which projects have others below them.
func (g *Graph) findNested() {
	for _, p := range g.Projects {
		for outer := g.Owner(p.Dir); outer != nil && outer != p && !outer.nested; outer = g.Owner(outer.Dir) {
			outer.nested = true
		}
	}
}

// Containing returns the innermost project that a directory belongs to, or
// nil.
func (g *Graph) Containing(dir string) *Project { return g.Owner(path.Join(dir, "x")) }

// rel returns a path relative to the project's directory.
func (p *Project) rel(name string) string {
	if p.Dir == "." {
		return name
	}
	return strings.TrimPrefix(name, p.Dir+"/")
}

// Rel returns a path (from the root, in the project) relative to the project's
// directory.
func (p *Project) Rel(name string) string { return p.rel(name) }

// Writer returns the task that writes a path (from the root), or nil.
func (g *Graph) Writer(name string) *Task {
	p := g.Owner(name)
	if p == nil {
		return nil
	}
	rel := p.rel(name)
	for _, t := range p.Tasks {
		if t.writesRel(rel) {
			return t
		}
	}
	return nil
}

func (t *Task) writesRel(rel string) bool {
	return slices.ContainsFunc(t.Writes, func(w glob.Pattern) bool { return w.Match(rel) })
}

// IsOutput tells whether a path (from the root) is an output, scratch or
// report of a task, so it is never read as a file.
func (g *Graph) IsOutput(name string) bool {
	p := g.Owner(name)
	return p != nil && p.Writes(name)
}

// Writes tells whether a path (from the root) is an output, scratch or report of
// a task of the project.
func (p *Project) Writes(name string) bool {
	rel := p.rel(name)
	for _, t := range p.Tasks {
		if t.writesRel(rel) || t.scratchRel(rel) {
			return true
		}
	}
	return false
}

// MayWriteIn tells whether tasks may create or delete entries of a directory, from the root.
func (g *Graph) MayWriteIn(dir string) bool {
	if known, ok := g.writable.Load(dir); ok {
		return known.(bool)
	}
	may := g.mayWriteIn(dir)
	g.writable.Store(dir, may)
	return may
}

func (g *Graph) mayWriteIn(dir string) bool {
	p := g.Containing(dir)
	if p == nil {
		return false
	}
	starts := func(list []glob.Pattern) bool {
		return slices.ContainsFunc(list, func(w glob.Pattern) bool {
			start := path.Join(p.Dir, w.LiteralStart())
			return within(start, dir) || within(dir, start)
		})
	}
	for _, t := range p.Tasks {
		if starts(t.Writes) || starts(t.Scratch) || starts(t.Reports) {
			return true
		}
		for _, r := range t.Opens {
			if start := path.Join(p.Dir, r.Pattern.LiteralStart()); r.Scope == decl.Own && (within(start, dir) || within(dir, start)) {
				return true
			}
		}
	}
	return false
}

// within tells whether a clean path is a directory or inside it.
func within(p, dir string) bool { return dir == "." || p == dir || strings.HasPrefix(p, dir+"/") }

// IsScratch tells whether a path (from the root, in the task's own project) is
// scratch of the task.
func (t *Task) IsScratch(name string) bool { return t.scratchRel(t.Project.rel(name)) }

func (t *Task) scratchRel(rel string) bool {
	matches := func(s glob.Pattern) bool { return s.Match(rel) }
	return slices.ContainsFunc(t.Scratch, matches) || slices.ContainsFunc(t.Reports, matches)
}

// WritesFile tells whether the task writes a path, from the root.
func (t *Task) WritesFile(name string) bool {
	return t.graph.Owner(name) == t.Project && t.writesRel(t.Project.rel(name))
}

// ReadsFile tells whether the task's own patterns (not the offers of needed
// projects) match a path, from the root. Outputs of tasks are never read as
// files: the caller excludes them with [Graph.Writer].
func (t *Task) ReadsFile(name string) bool {
	return t.reads(name, t.graph.Owner(name))
}

// ReadsOwned is [Task.ReadsFile] for a path that belongs to the task's own
// project.
func (t *Task) ReadsOwned(name string) bool { return t.reads(name, t.Project) }

func (t *Task) reads(name string, owner *Project) bool {
	if !t.ReadsGiven() {
		return owner == t.Project && !isDeclaration(name) && !t.opens(name, owner)
	}
	return t.matchReads(t.Reads, name, owner)
}

// ReadsIgnored is [Task.ReadsFile] for a file that git ignores, and that is found by patterns that
// start at one of some paths, from the root.
func (t *Task) ReadsIgnored(name string, starts map[string]bool) bool {
	return t.ReadsGiven() && t.matchFrom(starts, t.Reads, name, t.graph.Owner(name))
}

// MayReadBelow tells whether there can be a path below a directory, from the root, that the task
// reads as a file, by its own patterns or by what needed projects offer.
func (t *Task) MayReadBelow(dir string) bool {
	all := glob.MustParse("**").Under(dir)
	for _, r := range t.Reads {
		pat := r.Pattern
		if r.Scope == decl.Own {
			pat = pat.Under(t.Project.Dir)
		}
		if r.Scope != decl.Needs && !r.Negated && pat.Meets(all) {
			return true
		}
	}
	return !t.ReadsGiven() && t.ReadsFile(dir) || t.NeedsRead() && slices.ContainsFunc(t.Project.NeedsAll, func(p *Project) bool {
		return p.OffersFile(t.graph, dir) || slices.ContainsFunc(p.offers, func(o offer) bool {
			return !o.negated && o.pattern.Under(p.Dir).Meets(all)
		})
	})
}

// OpensFile tells whether a path, from the root, is among the files that the
// task opens although its result does not depend on them.
func (t *Task) OpensFile(name string) bool { return t.opens(name, t.graph.Owner(name)) }

func (t *Task) opens(name string, owner *Project) bool {
	return len(t.Opens) > 0 && t.matchReads(t.Opens, name, owner)
}

// matchReads matches a path against patterns in the form of reads: the last one
// that matches decides, separately for each scope.
func (t *Task) matchReads(list []decl.Read, name string, owner *Project) bool {
	return t.matchFrom(nil, list, name, owner)
}

// matchFrom is [Task.matchReads] with patterns that start at one of some paths; nil: with all.
func (t *Task) matchFrom(starts map[string]bool, list []decl.Read, name string, owner *Project) bool {
	own, root := false, false
	rel := ""
	for _, r := range list {
		switch {
		case r.Scope == decl.Own && owner == t.Project:
			if rel == "" {
				rel = t.Project.rel(name)
			}
			if includes(r.Pattern, rel, r.Negated) && leads(starts, t.Project.Dir, r.Pattern, r.Negated) {
				own = !r.Negated
			}
		case r.Scope == decl.Root && (owner == nil || owner.OffersTo(t.Project)):
			if includes(r.Pattern, name, r.Negated) && leads(starts, ".", r.Pattern, r.Negated) {
				root = !r.Negated
			}
		}
	}
	return own || root
}

// OffersFile tells whether the project offers a path, from the root, to tasks
// of projects that need it.
func (p *Project) OffersFile(g *Graph, name string) bool {
	return g.Owner(name) == p && p.OffersOwned(name)
}

// OffersOwned is [Project.OffersFile] for a path that belongs to the project.
func (p *Project) OffersOwned(name string) bool {
	if !p.Offers.Given {
		return !isDeclaration(name)
	}
	return p.offersFrom(nil, name)
}

// OffersIgnored is [Project.OffersOwned] for a file that git ignores, and that is found by patterns
// that start at one of some paths, from the root.
func (p *Project) OffersIgnored(name string, starts map[string]bool) bool {
	return p.Offers.Given && p.offersFrom(starts, name)
}

func (p *Project) offersFrom(starts map[string]bool, name string) bool {
	rel := p.rel(name)
	offered := false
	for _, o := range p.offers {
		if includes(o.pattern, rel, o.negated) && leads(starts, p.Dir, o.pattern, o.negated) {
			offered = !o.negated
		}
	}
	return offered
}

// offersMeet tells whether the project's offers can match what pat matches.
// Without offers, outputs of tasks are excluded.
func (p *Project) offersMeet(pat glob.Pattern) bool {
	meets := false
	for _, o := range p.offers {
		switch {
		case o.negated && o.pattern.Covers(pat):
			meets = false
		case !o.negated && o.pattern.Meets(pat):
			meets = true
		}
	}
	return meets
}

// leads tells whether a pattern, relative to a directory, starts at one of some paths, or whether that
// does not matter.
func leads(starts map[string]bool, dir string, p glob.Pattern, negated bool) bool {
	return negated || starts == nil || starts[path.Join(dir, p.LiteralStart())]
}

// includes matches a pattern, except that declarations match only where they
// are named literally.
func includes(p glob.Pattern, name string, negated bool) bool {
	if !p.Match(name) {
		return false
	}
	if negated || !isDeclaration(name) {
		return true
	}
	base, literal := p.LiteralBase()
	return literal && base == path.Base(name)
}

func isDeclaration(name string) bool {
	base := path.Base(name)
	return base == decl.ProjectFile || name == decl.RootFile
}

// IgnoredStarts returns the directories or files, from the root and sorted, at which the
// positive patterns of tasks, probes and offers start: files that the repository's
// ignore files exclude are searched only there.
func (g *Graph) IgnoredStarts() []string {
	set := starts{}
	set.addTasks(g)
	for _, probe := range g.Repo.Probes {
		for _, r := range probe.Reads {
			switch {
			case r.Negated:
			case r.Scope == decl.Root:
				set.add(nil, r.Pattern)
			default:
				for _, p := range g.Projects {
					set.add(p, r.Pattern)
				}
			}
		}
	}
	return slices.Sorted(maps.Keys(set))
}

// ReadStarts returns those of [Graph.IgnoredStarts] at which patterns of tasks and offers start.
func (g *Graph) ReadStarts() []string {
	set := starts{}
	set.addTasks(g)
	return slices.Sorted(maps.Keys(set))
}

// starts are paths, from the root, at which patterns start.
type starts map[string]bool

func (s starts) add(p *Project, pat glob.Pattern) {
	if start := pat.LiteralStart(); start != "" {
		if p != nil {
			start = path.Join(p.Dir, start)
		}
		s[start] = true
	}
}

func (s starts) addTasks(g *Graph) {
	for _, p := range g.Projects {
		for _, o := range p.offers {
			if !o.negated {
				s.add(p, o.pattern)
			}
		}
		for _, t := range p.Tasks {
			for _, r := range t.Reads {
				switch {
				case r.Negated || r.Scope == decl.Needs:
				case r.Scope == decl.Own:
					s.add(p, r.Pattern)
				default:
					s.add(nil, r.Pattern)
				}
			}
		}
	}
}
