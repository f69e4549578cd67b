package adopt

import (
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/survey"
)

// reaches tells whether a task's project (or a project that would share its
// kind) needs any other project, and whether it needs one whose build writes
// something.
func (w *proposer) reaches(p *survey.Project) (needs, makes bool) {
	group := p.Dir
	if p.Stem != "" && p.Dir != "." {
		group = "kind " + p.Stem // no directory has that name
	}
	known, ok := w.reached[group]
	if !ok {
		known = w.findReached(p)
		w.reached[group] = known
	}
	return known.needs, known.makes
}

// reached is what [proposer.reaches] answers.
type reached struct{ needs, makes bool }

func (w *proposer) findReached(p *survey.Project) (out reached) {
	among := []*survey.Project{p}
	makers := map[string]bool{}
	for _, q := range w.s.Projects {
		if p.Stem != "" && p.Dir != "." && q.Stem == p.Stem && q.Dir != "." {
			among = append(among, q)
		}
		b := q.Task("build")
		makers[q.Dir] = b != nil && b.Sort == survey.Reusable && len(b.Writes) > 0
	}
	for _, q := range among {
		for _, n := range q.Needs {
			out.needs = true
			out.makes = out.makes || makers[n.Dir]
		}
	}
	return out
}

// rows writes a task's keys, without the table header.
func (w *proposer) rows(p *survey.Project, t *survey.Task) string {
	var x text
	run := t.Run
	var env []string
	for _, v := range w.s.Variables {
		if !slices.Contains(v.Tasks, t) {
			continue
		}
		switch v.Use {
		case survey.AsSetting:
			run = fmt.Sprintf("%s=%%{setting.%s} %s", v.Name, settingName(v.Name), run)
		case survey.AsEnv:
			env = append(env, v.Name)
		}
	}
	x.key("run", run)
	if t.Help != "" {
		x.key("help", t.Help)
	}
	if t.Sort == survey.NeverReusable {
		x.list("env", env)
		x.list("secrets", w.secrets(t))
		x.key("reuse", "never")
		return x.aligned()
	}
	needs, makes := w.reaches(p)
	if len(t.Reads) > 0 || needs {
		reads := []string{"**"}
		for _, o := range p.Tasks {
			for _, pat := range o.Writes {
				if o.Sort == survey.Reusable && !slices.Contains(reads, "!"+pat) {
					reads = append(reads, "!"+pat)
				}
			}
		}
		for _, pat := range w.otherWrites(p.Dir) {
			if !slices.Contains(reads, "!"+pat) {
				reads = append(reads, "!"+pat)
			}
		}
		reads = append(reads, t.Reads...)
		if needs {
			reads = append(reads, "needs:*")
		}
		x.list("reads", reads)
	}
	if t.Writes != nil {
		x.always("writes", t.Writes)
	}
	x.list("opens", t.Opens)
	x.list("scratch", t.Scratch)
	after := append(slices.Clone(t.After), w.before(p.Dir)...)
	if makes {
		after = append(after, "build@needs:*")
	}
	if needs {
		for _, name := range w.makers(p) {
			if one := name + "@needs:*"; !slices.Contains(after, one) {
				after = append(after, one)
			}
		}
	}
	x.list("after", after)
	x.list("env", env)
	x.list("secrets", w.secrets(t))
	if t.Probes != nil {
		x.always("probes", t.Probes)
	}
	return x.aligned()
}

// before returns the tasks of a declared directory that others of it come after: what
// they generate is a source for a new task, too.
func (w *proposer) before(dir string) (out []string) {
	d := w.declared(dir)
	if d == nil {
		return nil
	}
	for _, t := range d.Tasks {
		if t.Name != "build" && t.Name != "test" {
			continue
		}
		for _, name := range t.Decl.After.Texts() {
			if !strings.ContainsAny(name, "@:") && name != "build" && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// otherWrites returns what the other declared tasks of a directory write: a new task is
// not to read that by accident.
func (w *proposer) otherWrites(dir string) (out []string) {
	if d := w.declared(dir); d != nil {
		for _, t := range d.Tasks {
			if !slices.Contains(w.before(dir), t.Name) {
				out = append(out, t.Decl.Writes.Texts()...)
			}
		}
	}
	return out
}

// makers returns the names of declared tasks that write something in projects that a
// declared project needs, also through others.
func (w *proposer) makers(p *survey.Project) (out []string) {
	d := w.declared(p.Dir)
	if d == nil {
		return nil
	}
	if known, ok := w.made[p.Dir]; ok {
		return known
	}
	if w.needs == nil {
		w.needs = needsOf(w.old)
	}
	needed := w.needs[d.Name]
	for _, o := range w.old.Projects {
		for _, t := range o.Tasks {
			if needed[o.Name] && len(t.Writes) > 0 && !slices.Contains(out, t.Name) {
				out = append(out, t.Name)
			}
		}
	}
	slices.Sort(out)
	w.made[p.Dir] = out
	return out
}

func (w *proposer) secrets(t *survey.Task) []string {
	var out []string
	for _, v := range w.s.Variables {
		if v.Use == survey.AsSecret && slices.Contains(v.Tasks, t) {
			out = append(out, v.Name)
		}
	}
	return out
}

func settingName(variable string) string {
	return strings.ReplaceAll(strings.ToLower(variable), "_", "-")
}

// offers writes which files of a project others may read, without the outputs
// of its tasks.
func (w *proposer) offers(p *survey.Project, kind string) []string {
	if len(p.Offers) == 0 {
		return nil
	}
	out := slices.Clone(p.Offers)
	if kind != "" {
		out = []string{"kind:*"}
	}
	for _, t := range p.Tasks {
		for _, pat := range t.Writes {
			if t.Sort == survey.Reusable {
				out = append(out, "!"+pat)
			}
		}
	}
	if kind != "" && len(out) == 1 {
		return nil
	}
	return out
}

// comment says where a task was found and what a person should know about it.
func comment(t *survey.Task) string {
	out := t.From
	switch {
	case t.Sort == survey.NeverReusable:
		out += "; never reused: " + t.Why
	case t.Writes == nil:
		out += "; without writes it always runs: add what it writes"
	case t.WritesWhy != "" && len(t.Writes) > 0:
		out += "; writes: " + t.WritesWhy
	}
	return out
}

func kindComment(t *survey.Task) string {
	if t.Sort == survey.NeverReusable {
		return "never reused: " + t.Why
	}
	if t.Writes == nil {
		return "without writes it always runs: add what it writes"
	}
	return ""
}

// omitted returns the tasks of a kind that a project does not have, or has in a
// different form: otherwise its own table would inherit from the kind the keys
// that it leaves out.
func (w *proposer) omitted(p *survey.Project, kind string) []string {
	var names []string
	if w.old != nil && w.old.Kinds[kind] != nil {
		names = sortedKeys(w.old.Kinds[kind].Tasks)
	} else {
		for _, t := range w.shared[kind] {
			names = append(names, t.Name)
		}
	}
	return slices.DeleteFunc(names, func(n string) bool {
		return slices.ContainsFunc(w.fresh[p], func(t *survey.Task) bool { return t.Name == n && w.kindHas(kind, p, t) })
	})
}
