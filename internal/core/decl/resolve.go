package decl

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/glob"
)

const everything = "kind:*"

// resolve folds kinds into projects and checks each project by itself.
func (l *loader) resolve() {
	byName := map[string]*Project{}
	for _, d := range l.found {
		p := l.project(d)
		if other, ok := byName[p.Name]; ok {
			pos := d.name.Pos
			if pos.Line == 0 {
				pos = d.pos
			}
			d.r.fail(pos, "give one of them another name", "two projects have the name %q: the other is in %s", p.Name, other.Pos.At())
			continue
		}
		byName[p.Name] = p
		l.repo.Projects = append(l.repo.Projects, p)
	}
}

func (l *loader) project(d *projectDecl) *Project {
	p := &Project{Name: d.dir, Dir: d.dir, Needs: d.needs.Items, Owner: d.owner.Text, OffersTo: d.to, Pos: d.pos}
	if d.dir == "." {
		p.Name = l.repo.Name
	}
	if d.name.Text != "" {
		p.Name = d.name.Text
		if msg := badName(p.Name, false); msg != "" {
			d.r.fail(d.name.Pos, "choose another name", "project %q: %s", p.Name, msg)
		}
	}
	p.Pos.File = d.r.doc.file

	base := l.fold(d, p)
	l.lacks = p.Lacks
	defer func() { l.lacks = false }()
	offers, tags, tasks := base.offers, base.tags, maps.Clone(base.tasks)
	for _, it := range d.omit.Items {
		if _, ok := tasks[it.Text]; !ok && !p.Lacks {
			d.r.fail(it.Pos, meant(it.Text, slices.Collect(maps.Keys(tasks))), "there is no task %q to omit", it.Text)
		}
		delete(tasks, it.Text)
	}
	p.Offers = l.over(offers, d.offers)
	p.Tags = l.over(tags, d.tags).Items
	for name, t := range d.tasks {
		tasks[name] = l.overTask(tasks[name], t)
	}
	l.patterns(p.Offers)
	l.patterns(p.OffersTo)
	for _, name := range slices.Sorted(maps.Keys(tasks)) {
		p.Tasks = append(p.Tasks, l.task(p, tasks[name]))
	}
	return p
}

// fold is the result of combining kinds from left to right. Projects with the
// same kinds share it.
type fold struct {
	offers, tags List
	tasks        map[string]*TaskDecl
}

func (l *loader) fold(d *projectDecl, p *Project) fold {
	var known []string
	for _, it := range d.kinds.Items {
		if _, ok := l.repo.Kinds[it.Text]; !ok {
			p.Lacks = true
			advice := orDeclare(meant(it.Text, slices.Collect(maps.Keys(l.repo.Kinds))), "kind", it.Text)
			l.unknown(it.Pos, advice, "kind %q is not declared", it.Text)
			continue
		}
		p.Kinds = append(p.Kinds, it)
		known = append(known, it.Text)
	}
	id := strings.Join(known, "\x00")
	if f, ok := l.folds[id]; ok {
		return f
	}
	f := fold{tasks: map[string]*TaskDecl{}}
	for _, name := range known {
		k := l.repo.Kinds[name]
		f.offers, f.tags = l.over(f.offers, k.Offers), l.over(f.tags, k.Tags)
		for name, t := range k.Tasks {
			f.tasks[name] = l.overTask(f.tasks[name], t)
		}
	}
	if l.folds == nil {
		l.folds = map[string]fold{}
	}
	l.folds[id] = f
	return f
}

func (l *loader) fail(pos Pos, advice, format string, args ...any) {
	l.problems = append(l.problems, l.repo.Problem(pos, advice, format, args...))
}

// unknown reports an undefined name, unless it may be in a file that could not be read.
func (l *loader) unknown(pos Pos, advice, format string, args ...any) {
	if !l.repo.Unread {
		l.fail(pos, advice, format, args...)
	}
}

// over combines two lists: an absent one inherits, a present one replaces, and
// "kind:*" in it inserts the inherited items.
func (l *loader) over(base, next List) List {
	if !next.Given {
		return base
	}
	out := List{Given: true, Pos: next.Pos}
	for _, it := range next.Items {
		if it.Text != everything {
			out.Items = append(out.Items, it)
			continue
		}
		if !base.Given {
			if l.lacks {
				continue
			}
			l.fail(it.Pos, "leave it out", "%q inserts the list of a kind, but no kind declares one here", everything)
			continue
		}
		out.Items = append(out.Items, base.Items...)
	}
	return out
}

func (l *loader) overTask(base, next *TaskDecl) *TaskDecl {
	if base == nil {
		base = &TaskDecl{}
	}
	t := *next
	t.Reads, t.Writes = l.over(base.Reads, next.Reads), l.over(base.Writes, next.Writes)
	t.After, t.Env = l.over(base.After, next.After), l.over(base.Env, next.Env)
	t.Probes = l.over(base.Probes, next.Probes)
	t.EnvUnkeyed, t.Scratch = l.over(base.EnvUnkeyed, next.EnvUnkeyed), l.over(base.Scratch, next.Scratch)
	t.Secrets, t.Opens = l.over(base.Secrets, next.Secrets), l.over(base.Opens, next.Opens)
	t.Reports = l.over(base.Reports, next.Reports)
	t.Settings, t.Locks = l.over(base.Settings, next.Settings), l.over(base.Locks, next.Locks)
	if t.Run.Pos.Line == 0 {
		t.Run = base.Run
	}
	for _, f := range []struct{ to, from *Item }{
		{&t.Reuse, &base.Reuse}, {&t.Help, &base.Help}, {&t.Timeout, &base.Timeout},
		{&t.Slots, &base.Slots}, {&t.Portable, &base.Portable}, {&t.Isolation, &base.Isolation},
		{&t.Network, &base.Network}, {&t.Retries, &base.Retries},
	} {
		if f.to.Pos.Line == 0 {
			*f.to = *f.from
		}
	}
	return &t
}

func (l *loader) patterns(list List) []glob.Pattern {
	var out []glob.Pattern
	for _, it := range list.Items {
		p, err := glob.Parse(strings.TrimPrefix(it.Text, "!"))
		if err != nil {
			l.fail(it.Pos, "patterns are relative to the project's directory", "%s", err)
			continue
		}
		out = append(out, p)
	}
	return out
}

// task resolves a task. Projects that use a kind's task unchanged share
// everything that does not depend on the project.
func (l *loader) task(p *Project, d *TaskDecl) *Task {
	if have, ok := l.tasks[d]; ok {
		t := *have
		t.Project = p
		return &t
	}
	t := l.newTask(p, d)
	if l.tasks == nil {
		l.tasks = map[*TaskDecl]*Task{}
	}
	l.tasks[d] = t
	return t
}

func (l *loader) newTask(p *Project, d *TaskDecl) *Task {
	t := &Task{Name: d.Name, Project: p, Decl: d, Reuse: Auto, Help: d.Help.Text, Slots: 1, Pos: d.Pos, Portable: d.Portable.Text == "true"}
	if !d.Run.Given() && d.Run.Pos.Line == 0 && !p.Lacks {
		l.fail(d.Pos, `write run = "…"`, "task %q of project %q has no command", d.Name, p.Name)
	}
	for _, it := range d.Writes.Items {
		if strings.HasPrefix(it.Text, "!") || strings.HasPrefix(it.Text, "repo:") || strings.HasPrefix(it.Text, "needs:") {
			l.fail(it.Pos, "name output files, relative to the project's directory", "%q is not allowed in writes", it.Text)
			d.Writes.Items = slices.DeleteFunc(slices.Clone(d.Writes.Items), func(x Item) bool { return x == it })
		}
	}
	t.Writes = l.patterns(d.Writes)
	t.Reads = l.reads(d.Reads)
	l.opens(t)
	l.env(t)
	l.scratch(t)
	l.reports(t)
	l.uses(t)
	l.limits(t)
	for _, it := range d.Probes.Items {
		if _, ok := l.repo.Probes[it.Text]; !ok {
			advice := orDeclare(meant(it.Text, slices.Collect(maps.Keys(l.repo.Probes))), "probe", it.Text)
			l.unknown(it.Pos, advice, "probe %q is not declared", it.Text)
		}
	}
	if len(t.Secrets) > 0 {
		t.Reuse = Local // unless the declaration says otherwise
	}
	if d.Reuse.Text != "" {
		t.Reuse = Reuse(d.Reuse.Text)
		if all := []string{"auto", "always", "local", "never"}; !slices.Contains(all, d.Reuse.Text) {
			l.fail(d.Reuse.Pos, meant(d.Reuse.Text, all), "reuse = %q is not valid", d.Reuse.Text)
		}
	}
	return t
}

func (l *loader) reads(list List) []Read {
	var out []Read
	for _, it := range list.Items {
		r := Read{Item: it}
		text := it.Text
		if text == "needs:*" {
			out = append(out, Read{Scope: Needs, Item: it})
			continue
		}
		text, r.Negated = strings.CutPrefix(text, "!")
		if after, ok := strings.CutPrefix(text, "repo:"); ok {
			r.Scope, text = Root, after
		} else if before, _, ok := strings.Cut(text, ":"); ok {
			l.fail(it.Pos, `write "repo:…" for a path from the root, "needs:*" for what needed projects offer`,
				"%q is not a known prefix of a pattern", before+":")
			continue
		}
		p, err := glob.Parse(text)
		if err != nil {
			l.fail(it.Pos, `patterns are relative to the project's directory, or to the root after "repo:"`, "%s", err)
			continue
		}
		r.Pattern = p
		out = append(out, r)
	}
	return out
}

// FixedEnv are the constant variables that every task gets, as NAME=value.
// PATH, HOME and TMPDIR come from the machine.
func FixedEnv() []string {
	return []string{"LANG=C.UTF-8", "TZ=UTC", fmt.Sprintf("SOURCE_DATE_EPOCH=%d", sourceDateEpoch)}
}

// sourceDateEpoch is a constant that tools use instead of the current time
// (https://reproducible-builds.org/specs/source-date-epoch/): 2020-01-01.
const sourceDateEpoch = 1577836800
