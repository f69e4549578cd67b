package graph

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
)

// audiences checks who needs a project, or names its files, against what that
// project says in offers_to.
func (b *builder) audiences() {
	for _, p := range b.g.Projects {
		for i, it := range p.Project.OffersTo.Items {
			if i < len(p.to) {
				b.audience(p, p.to[i], it)
			}
		}
		for _, it := range p.Project.Needs {
			if q := b.g.byName[it.Text]; q != nil && !q.OffersTo(p) {
				b.fail(it.Pos, fmt.Sprintf("add %q to offers_to in %s, or do without it", p.Name, q.Project.OffersTo.Pos.At()),
					"project %q needs %q, which offers itself to others only: %s", p.Name, q.Name, quoted(q.Project.OffersTo.Texts()))
			}
		}
		for _, t := range p.Tasks {
			b.rootReads(t)
		}
	}
}

// audience reports a pattern over names that means directories.
func (b *builder) audience(p *Project, a audience, it decl.Item) {
	byDir := func(q *Project) bool { return a.pattern.Match(q.Dir) }
	if !a.dirs && !slices.ContainsFunc(b.g.Projects, a.takesIn) && slices.ContainsFunc(b.g.Projects, byDir) {
		b.fail(it.Pos, fmt.Sprintf("for directories write %q", "./"+it.Text), "project %q offers itself to %q, and no project is called that", p.Name, it.Text)
	}
}

func quoted(texts []string) string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = fmt.Sprintf("%q", t)
	}
	return cmp.Or(strings.Join(out, ", "), "nobody")
}

// rootReads reports a read from the root that begins in a project which does
// not offer itself to the reader.
func (b *builder) rootReads(t *Task) {
	for _, r := range t.Reads {
		if r.Scope != decl.Root || r.Negated {
			continue
		}
		q := b.g.Containing(r.Pattern.LiteralStart())
		if q != nil && !q.OffersTo(t.Project) {
			b.fail(r.Item.Pos, fmt.Sprintf("add %q to offers_to in %s, or do without these files", t.Project.Name, q.Project.OffersTo.Pos.At()),
				"%s reads files of %q, which offers itself to others only: %s", t.Addr(), q.Name, quoted(q.Project.OffersTo.Texts()))
		}
	}
}

// meetings checks what tasks write against what others write and read. Only
// pairs that can meet are looked at: tasks of one project, tasks that make what
// a needed project offers, and writers that a read from the root can meet.
func (b *builder) meetings() {
	b.rewrites = map[*decl.TaskDecl]bool{}
	var writers []*Task
	for _, t := range b.g.Tasks {
		if len(t.Writes) > 0 {
			writers = append(writers, t)
		}
	}
	slices.SortFunc(writers, sortByPosition)
	type pair struct {
		offers *decl.Item
		task   *decl.TaskDecl
	}
	meets := map[pair]bool{}
	for _, w := range writers {
		w.Project.writers = append(w.Project.writers, w)
		if len(w.Project.Offers.Items) == 0 {
			continue
		}
		id := pair{&w.Project.Offers.Items[0], w.Decl}
		m, known := meets[id]
		if !known {
			m = slices.ContainsFunc(w.Writes, w.Project.offersMeet)
			meets[id] = m
		}
		if m {
			w.Project.offering = append(w.Project.offering, w)
		}
	}
	for _, p := range b.g.Projects {
		b.writesMeet(p)
	}
	byRead := map[string][]*Task{}
	for _, t := range b.g.Tasks {
		b.ownWrites(t)
		for _, w := range b.candidates(t, writers, byRead) {
			if w != t && !t.DependsOn(w) && !w.DependsOn(t) {
				b.unordered(t, w)
			}
		}
	}
}

func sortByPosition(x, y *Task) int {
	return cmp.Or(strings.Compare(x.Pos.File, y.Pos.File), x.Pos.Line-y.Pos.Line, byAddr(x, y))
}

// candidates returns the writers that the reads of t may meet, each once, in
// the order of their places. ByRead remembers, for a pattern from the root,
// the writers that it meets.
func (b *builder) candidates(t *Task, writers []*Task, byRead map[string][]*Task) []*Task {
	out := slices.Clone(t.Project.writers)
	if t.NeedsRead() {
		for _, q := range t.Project.NeedsAll {
			out = append(out, q.offering...)
		}
	}
	for _, r := range t.Reads {
		if r.Scope != decl.Root || r.Negated {
			continue
		}
		met, ok := byRead[r.Pattern.String()]
		if !ok {
			met = slices.DeleteFunc(slices.Clone(writers), func(w *Task) bool {
				return !slices.ContainsFunc(w.Writes, func(p glob.Pattern) bool { return r.Pattern.Meets(p.Under(w.Project.Dir)) })
			})
			byRead[r.Pattern.String()] = met
		}
		out = append(out, met...)
	}
	slices.SortFunc(out, sortByPosition)
	return slices.Compact(out)
}

func (b *builder) writesMeet(p *Project) {
	for i, t := range p.Tasks {
		for _, u := range p.Tasks[i+1:] {
			for k, w := range t.Writes {
				if j := slices.IndexFunc(u.Writes, w.Meets); j >= 0 {
					it, other := u.Decl.Writes.Items[j], t.Decl.Writes.Items[k]
					b.fail(it.Pos, "let each file be written by one task only",
						"%s writes %q, which meets %q of %s in %s", u.Addr(), it.Text, other.Text, t.Addr(), other.Pos.At())
					break
				}
			}
		}
	}
}

// ownWrites reports a task that rewrites what it reads, such as a formatter:
// there is no state of the files that its key could be taken of.
func (b *builder) ownWrites(t *Task) {
	if rewrites, known := b.rewrites[t.Decl]; known && !rewrites {
		return
	}
	r, w := rewritten(t)
	b.rewrites[t.Decl] = r != nil
	if r != nil {
		b.fail(r.Item.Pos, fmt.Sprintf("add %q to reads if it only makes these files; if it rewrites its sources, leave writes out and set reuse = \"never\"", "!"+w.String()),
			"%s reads what it writes itself: %q meets %q", t.Addr(), r.Item.Text, w)
	}
}

func rewritten(t *Task) (*decl.Read, glob.Pattern) {
	for _, w := range t.Writes {
		for i, r := range t.Reads {
			if r.Scope == decl.Own && !r.Negated && r.Pattern.Covers(w) && !excluded(t.Reads, decl.Own, w) {
				return &t.Reads[i], w
			}
		}
	}
	return nil, glob.Pattern{}
}

// unordered reports a read that meets what another task writes, where neither
// waits for the other.
func (b *builder) unordered(t, w *Task) {
	for _, pat := range w.Writes {
		if w.Project == t.Project {
			if r := meeting(t.Reads, decl.Own, pat); r != nil {
				b.unorderedRead(t, w, r, w.Name, pat)
				return
			}
		}
		if r := meeting(t.Reads, decl.Root, pat.Under(w.Project.Dir)); r != nil {
			b.unorderedRead(t, w, r, w.Addr(), pat.Under(w.Project.Dir))
			return
		}
	}
	if !t.NeedsRead() || !slices.Contains(t.Project.NeedsAll, w.Project) {
		return
	}
	for _, pat := range w.Writes {
		if w.Project.offersMeet(pat) {
			i := slices.IndexFunc(t.Reads, func(r decl.Read) bool { return r.Scope == decl.Needs })
			b.fail(t.Reads[i].Item.Pos, fmt.Sprintf("add %q to after, or take %q out of the offers of %q", w.Addr(), pat, w.Project.Name),
				"%s reads what %q offers, of which %s makes %q, and it does not come after that", t.Addr(), w.Project.Name, w.Addr(), pat)
			return
		}
	}
}

func (b *builder) unorderedRead(t, w *Task, r *decl.Read, after string, pat glob.Pattern) {
	away := "!" + pat.String()
	if r.Scope == decl.Root {
		away = "!repo:" + pat.String()
	}
	b.fail(r.Item.Pos, fmt.Sprintf("add %q to after, or %q to reads", after, away),
		"%s reads %q, which meets what %s writes (%q in %s), and neither comes after the other",
		t.Addr(), r.Item.Text, w.Addr(), pat, w.Decl.Writes.Pos.At())
}

// meeting returns the row of reads that can match what pat matches.
func meeting(reads []decl.Read, scope decl.Scope, pat glob.Pattern) *decl.Read {
	if excluded(reads, scope, pat) {
		return nil
	}
	for i, r := range reads {
		if r.Scope == scope && !r.Negated && r.Pattern.Meets(pat) && !excluded(reads[i+1:], scope, r.Pattern) {
			return &reads[i]
		}
	}
	return nil
}

// takenAway tells whether a "!" row, with no row after it that brings some of
// it back, covers all of pat.
func excluded(reads []decl.Read, scope decl.Scope, pat glob.Pattern) bool {
	away := false
	for _, r := range reads {
		switch {
		case r.Scope != scope:
		case r.Negated && r.Pattern.Covers(pat):
			away = true
		case !r.Negated && r.Pattern.Meets(pat):
			away = false
		}
	}
	return away
}
