package graph

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/glob"
)

// audiences checks projects that need another project, or name its files,
// against its offers_to.
func (b *builder) audiences() {
	for _, p := range b.g.Projects {
		for i, it := range p.Project.OffersTo.Items {
			if i < len(p.to) {
				b.audience(p, p.to[i], it)
			}
		}
		for _, it := range p.Project.Needs {
			if q := b.g.byName[it.Text]; q != nil && !q.OffersTo(p) {
				b.fail(it.Pos, fmt.Sprintf("add %q to offers_to in %s, or remove the need", p.Name, q.Project.OffersTo.Pos.At()),
					"project %q needs %q, which is offered to others only: %s", p.Name, q.Name, quoted(q.Project.OffersTo.Texts()))
			}
		}
		for _, t := range p.Tasks {
			b.rootReads(t)
		}
	}
}

// audience reports a pattern over names that was meant for directories.
func (b *builder) audience(p *Project, a audience, it decl.Item) {
	byDir := func(q *Project) bool { return a.pattern.Match(q.Dir) }
	if !a.dirs && !slices.ContainsFunc(b.g.Projects, a.takesIn) && slices.ContainsFunc(b.g.Projects, byDir) {
		b.fail(
			it.Pos,
			fmt.Sprintf("for directories write %q", "./"+it.Text),
			"project %q offers itself to %q, but no project has that name",
			p.Name,
			it.Text,
		)
	}
}

func quoted(texts []string) string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = fmt.Sprintf("%q", t)
	}
	return cmp.Or(strings.Join(out, ", "), "nobody")
}

// rootReads reports a read from the root that starts in a project which does
// not offer itself to the reader.
func (b *builder) rootReads(t *Task) {
	for _, r := range t.Reads {
		if r.Scope != decl.Root || r.Negated {
			continue
		}
		q := b.g.Containing(r.Pattern.LiteralStart())
		if q != nil && !q.OffersTo(t.Project) {
			b.fail(
				r.Item.Pos,
				fmt.Sprintf("add %q to offers_to in %s, or do not read these files", t.Project.Name, q.Project.OffersTo.Pos.At()),
				"%s reads files of %q, which is offered to others only: %s",
				t.Addr(),
				q.Name,
				quoted(q.Project.OffersTo.Texts()),
			)
		}
	}
}

// meetings checks the writes of each task against the writes and reads of
// others. It compares only pairs that can meet: tasks of one project, tasks
// that write what a needed project offers, and writers that a read from the
// root can meet.
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
// file order. ByRead caches the writers that a pattern from the root meets.
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
					b.fail(it.Pos, "let only one task write each file",
						"%s writes %q, which overlaps %q of %s in %s", u.Addr(), it.Text, other.Text, t.Addr(), other.Pos.At())
					break
				}
			}
		}
	}
}

// ownWrites reports a task that rewrites what it reads, such as a formatter:
// its key would have no stable state of these files.
func (b *builder) ownWrites(t *Task) {
	if rewrites, known := b.rewrites[t.Decl]; known && !rewrites {
		return
	}
	r, w := rewritten(t)
	b.rewrites[t.Decl] = r != nil
	if r != nil {
		b.fail(
			r.Item.Pos,
			fmt.Sprintf(
				"add %q to reads if it only writes these files; if it rewrites its sources, remove writes and set reuse = \"never\"",
				"!"+w.String(),
			),
			"%s reads its own output: %q overlaps %q",
			t.Addr(),
			r.Item.Text,
			w,
		)
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

// unordered reports a read that overlaps another task's writes without a
// dependency between the two. The dependencies of a project that lacks a kind are not known.
func (b *builder) unordered(t, w *Task) {
	if t.Project.Lacks {
		return
	}
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
			b.fail(
				t.Reads[i].Item.Pos,
				fmt.Sprintf("add %q to after, or remove %q from the offers of %q", w.Addr(), pat, w.Project.Name),
				"%s reads what %q offers, of which %s writes %q, but it does not depend on that task",
				t.Addr(),
				w.Project.Name,
				w.Addr(),
				pat,
			)
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
		"%s reads %q, which overlaps the output of %s (%q in %s), but neither depends on the other",
		t.Addr(), r.Item.Text, w.Addr(), pat, w.Decl.Writes.Pos.At())
}

// meeting returns the item of reads that can match what pat matches.
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

// excluded tells whether a "!" item, with no later item that includes some of
// it again, covers all of pat.
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
