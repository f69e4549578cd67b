package decl

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/installed"
)

func (l *loader) probe(r *reader, name string, e *entry) {
	if have, ok := l.repo.Probes[name]; ok {
		r.fail(e.pos, "give one of them another name", "probe %q is already declared in %s", name, have.Pos.At())
		return
	}
	p := &Probe{Name: name, Pos: e.pos}
	var reads, dirs List
	var per Item
	before := len(l.problems)
	r.table(e.val.table, "[probe."+name+"]", map[string]field{
		"run": r.command(&p.Run), "installed": r.word(&p.Installed), "reads": r.list(&reads), "per": r.word(&per), "dirs": r.list(&dirs),
	})
	switch {
	case len(l.problems) > before:
	case p.Installed.Text != "" && p.Run.Given():
		r.fail(e.pos, "write one of them", "probe %q has both run and installed", name)
	case p.Installed.Text != "":
		l.installed(r, p, &reads, &dirs, &per)
	case !p.Run.Given():
		r.fail(e.pos, `write run = "… --version"`, "probe %q has no command", name)
	}
	switch per.Text {
	case "", "repo":
	case "project":
		p.PerProject = true
	default:
		r.fail(per.Pos, `write "project", or leave it out to run it once per repository`, "per = %q is not valid", per.Text)
	}
	for _, it := range dirs.Items {
		if !isToolDir(it.Text) {
			r.fail(
				it.Pos,
				`write an absolute path, "home:…" for one below the home directory, "repo:…" for one of the repository, or one of the `+
					`project of the task`,
				"%q is not the directory of a toolchain",
				it.Text,
			)
			continue
		}
		p.Dirs = append(p.Dirs, it.Text)
	}
	p.Rememberable = reads.Given
	p.Reads = l.reads(reads)
	for i, read := range p.Reads {
		if read.Scope == Needs {
			r.fail(read.Item.Pos, "name the files that its output depends on", "a probe reads files, not the offers of projects")
		}
		if !p.PerProject {
			p.Reads[i].Scope = Root
		}
	}
	l.repo.Probes[name] = p
}

// installed completes a probe of a package manager's record: what it reads follows from it, and it is
// asked for each project.
func (l *loader) installed(r *reader, p *Probe, reads, dirs *List, per *Item) {
	if per.Text == "repo" || reads.Given {
		r.fail(p.Pos, "leave them out", "with installed, probe %q reads the record for each project: reads and per cannot be given", p.Name)
		return
	}
	file, atRoot := strings.CutPrefix(p.Installed.Text, "repo:")
	record, ok := installed.Find(file)
	if !ok || !fs.ValidPath(file) || strings.ContainsAny(file, notInPaths) {
		r.fail(
			p.Installed.Pos,
			"name one of these, in the project, or after repo: from the root: "+strings.Join(installed.Names(), ", "),
			"%q is not the file in which a known package manager records what it installed",
			p.Installed.Text,
		)
		return
	}
	prefix := ""
	if atRoot {
		prefix = "repo:"
	}
	items := func(texts []string) (out List) {
		out.Given = true
		for _, t := range texts {
			out.Items = append(out.Items, Item{Text: t, Pos: p.Installed.Pos})
		}
		return out
	}
	*per = Item{Text: "project", Pos: p.Installed.Pos}
	var files []string
	for _, f := range record.Files() {
		files = append(files, prefix+f)
	}
	if !slices.Contains(files, installed.Manifest) {
		files = append(files, installed.Manifest)
	}
	*reads = items(files)
	if !dirs.Given {
		*dirs = items(record.Dirs(prefix))
	}
}

// Record returns the record of a package manager that the probe asks about a project in a directory.
func (p *Probe) Record(dir string) installed.Record {
	file, atRoot := strings.CutPrefix(p.Installed.Text, "repo:")
	if !atRoot {
		file = path.Join(dir, file)
	}
	r, _ := installed.Find(file) // it was checked when the declaration was read
	return r
}

// isToolDir tells whether a text names a directory that a probe may have. Those of the
// repository stay in it; without a prefix, it is one of the project of each task.
func isToolDir(text string) bool {
	if below, ok := strings.CutPrefix(text, "home:"); ok { // not all of it: it has a person's keys
		return fs.ValidPath(below) && below != "."
	}
	if below, ok := strings.CutPrefix(text, "/"); ok {
		return fs.ValidPath(below) && below != "."
	}
	rest := strings.TrimPrefix(text, "repo:")
	return fs.ValidPath(rest) && rest != "." && !strings.ContainsAny(rest, notInPaths)
}

// notInPaths are characters that have a meaning in patterns, or separate names.
const notInPaths = `*?[]{}\:`

// template checks that a kind's template is a directory of the repository.
func (l *loader) template(r *reader, k *Kind) {
	dir := path.Clean(k.Template.Text)
	if !fs.ValidPath(dir) {
		r.fail(k.Template.Pos, "name a directory from the root", "%q is outside the repository", k.Template.Text)
		return
	}
	if info, err := fs.Stat(l.fsys, dir); err != nil || !info.IsDir() {
		r.fail(
			k.Template.Pos,
			"name a directory, from the root, that contains the files of a new project",
			"there is no directory %q",
			k.Template.Text,
		)
	}
	k.Template.Text = dir
}
