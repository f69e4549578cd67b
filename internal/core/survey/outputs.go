package survey

import (
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/glob"
	"grayloft.example/grayloft/internal/core/pattern"
)

// Options and redirections by which commands name their outputs.
var outputFlags = []*pattern.Pattern{
	pattern.New(`(?:--out-?dir|--outDir|--outfile|--output|--output-path|--dist-dir|--out)[= ]["']?([\w./@-]+)`),
	pattern.New(`(?:^|\s)-[od]\s+["']?([\w./@-]+)`),
	pattern.New(`(?:^|[^0-9&>])>\s*["']?([\w./@-]+)`),
	pattern.New(`\bmkdir\s+(?:-p\s+)?["']?([\w./@-]+)`),
	pattern.New(`\btar\s+-?c\w*f\s+["']?([\w./@-]+)`),
}

// guessWrites works out what a task writes: nothing for a check; otherwise what
// its command names, what its configuration says, or the git-ignored
// directories that such tasks usually write.
func (s *surveyor) guessWrites(p *Project, t *Task) {
	if t.Sort != Reusable || t.Writes != nil {
		return
	}
	if has(t.Name, namesCheck) && !strings.Contains(t.Script, "coverage") {
		t.Writes, t.WritesWhy = []string{}, "a check writes nothing"
		return
	}
	c := s.compiled(p, t)
	if c.lost != "" {
		t.Sort, t.Why = NeverReusable, "the compiler keeps what it has compiled outside the project, in "+c.lost+": set tsBuildInfoFile"
		return
	}
	writes := named(t.Script)
	switch {
	case len(t.makes) > 0:
		writes, t.WritesWhy = append(writes, t.makes...), t.makesWhy
	case len(writes) > 0:
		t.WritesWhy = "named in its command"
	case len(c.dirs) > 0:
		writes, t.WritesWhy = c.dirs, "outDir in "+c.file
	default:
		if writes = s.customary(p); len(writes) > 0 {
			t.WritesWhy = "ignored by git, and usually written by such tasks"
		}
	}
	if len(writes) > 0 {
		writes = slices.Concat(writes, c.dirs, c.state) // those of the compiler, beside what else is named
	}
	if t.Writes = s.patterns(p, writes); len(t.Writes) == 0 {
		t.Writes = nil
	}
	if f := s.trackedAmong(p, t.Writes); f != "" {
		t.Sort, t.Why, t.Writes = NeverReusable, "it writes files that git tracks ("+f+")", nil
	}
}

// trackedAmong returns a file that git tracks and that patterns of writes match; empty if there
// is none.
func (s *surveyor) trackedAmong(p *Project, writes []string) string {
	for _, w := range writes {
		full := path.Join(p.Dir, w)
		start, isDir := strings.CutSuffix(full, "**")
		i, found := slices.BinarySearch(s.tracked, start)
		if found && !isDir || isDir && i < len(s.tracked) && strings.HasPrefix(s.tracked[i], start) {
			return s.tracked[i]
		}
	}
	return ""
}

// named returns the paths inside the project that a command writes to.
func named(script string) []string {
	var out []string
	for _, re := range outputFlags {
		for _, m := range re.FindAllStringSubmatch(script, -1) {
			p := path.Clean(m[1])
			if p == "." || strings.HasPrefix(p, "..") || strings.HasPrefix(p, "/") || strings.HasPrefix(p, "-") || slices.Contains(out, p) {
				continue
			}
			out = append(out, p)
		}
	}
	return out
}

// customary are directories that build tasks usually write.
var customaryDirs = []string{
	"dist",
	"build",
	"out",
	"lib-dist",
	"public/build",
	"gen",
	"generated",
	"target/dist",
	"_site",
	"site/public",
	"output",
	".output",
}

func (s *surveyor) customary(p *Project) []string {
	for _, d := range customaryDirs {
		if s.isIgnored(path.Join(p.Dir, d), true) && !s.holdsFiles(path.Join(p.Dir, d)) {
			return []string{d}
		}
	}
	return nil
}

func (s *surveyor) holdsFiles(dir string) bool { return len(s.below(dir)) > 0 }

// patterns turns paths into patterns of writes: a name without an extension is
// taken for a directory.
func (s *surveyor) patterns(p *Project, places []string) []string {
	var out []string
	for _, w := range places {
		if s.files[path.Join(p.Dir, w)] {
			continue // it is a source file
		}
		if !strings.Contains(w, "*") && (path.Ext(w) == "" || strings.HasPrefix(path.Base(w), ".")) {
			w += "/**"
		}
		out = append(out, w)
	}
	slices.Sort(out)
	// A path inside a directory that is already listed needs no line of its
	// own.
	var kept []string
	for _, w := range out {
		inside := slices.ContainsFunc(out, func(o string) bool {
			dir, ok := strings.CutSuffix(o, "/**")
			return ok && o != w && strings.HasPrefix(w, dir+"/")
		})
		if !inside && !slices.Contains(kept, w) {
			kept = append(kept, w)
		}
	}
	return kept
}

// complete classifies a project's tasks and works out what they write and
// depend on.
func (s *surveyor) complete(p *Project) {
	for _, t := range p.Tasks {
		t.judge()
		if t.Sort == Reusable && t.unsure != "" {
			t.Sort, t.Why = NeverReusable, t.unsure
		}
		s.guessWrites(p, t)
		if t.Sort == Reusable && len(t.Writes) > 0 && stamps(t.Script) {
			t.Sort, t.Writes = NeverReusable, nil
			t.Why = "go build stamps programs with the commit, which no file tells: add -buildvcs=false"
		}
	}
	p.oneWriterEach()
	for _, t := range p.Tasks {
		isShell := s.files[t.From] || strings.HasPrefix(t.From, "target ")
		if isShell && t.Sort == Reusable && t.Probes == nil && !t.opaque && s.isPlain(p.Dir, t.Script, 0) {
			t.Probes = []string{} // it depends on no tool
		}
	}
	for _, t := range p.Tasks {
		if run := others(t.Script); len(run) > 0 && t.Sort == Reusable {
			for _, name := range run {
				if p.Task(name) != nil && name != t.Name {
					t.Sort, t.Why, t.Writes = NeverReusable, "it runs other scripts ("+name+"), which are tasks of their own", nil
				}
			}
		}
	}
	s.overOthers(p)
	p.order()
}

var buildsGo = pattern.New(`\bgo\s+build\b`)

// stamps tells whether a script makes Go programs in which the commit is
// (https://pkg.go.dev/cmd/go#hdr-Compile_packages_and_dependencies).
func stamps(script string) bool {
	return buildsGo.MatchString(script) && !strings.Contains(script, "-buildvcs=false")
}

// oneWriterEach leaves each output to one task, since only one may write a file: to the one that
// names it most closely, or else to the one with the plainest name.
func (p *Project) oneWriterEach() {
	byPlain := slices.Clone(p.Tasks)
	slices.SortFunc(byPlain, func(a, b *Task) int {
		if len(a.Name) != len(b.Name) {
			return len(a.Name) - len(b.Name)
		}
		return strings.Compare(a.Name, b.Name)
	})
	for i, t := range byPlain {
		for _, u := range byPlain[i+1:] {
			if w, other, meet := meeting(t, u); !meet {
				continue
			} else if w != other && glob.MustParse(w).Covers(glob.MustParse(other)) {
				t.Writes, t.WritesWhy = nil, "it seems to write "+w+", and "+u.Name+" writes "+other
			} else {
				u.Writes, u.WritesWhy = nil, "it seems to write "+other+", and so does "+t.Name
			}
		}
	}
}

// meeting returns patterns of outputs of two tasks that may match the same file.
func meeting(t, u *Task) (a, b string, ok bool) {
	for _, a := range t.Writes {
		for _, b := range u.Writes {
			if glob.MustParse(a).Meets(glob.MustParse(b)) {
				return a, b, true
			}
		}
	}
	return "", "", false
}

// overOthers classifies the scripts of a project that contains other projects:
// they may read files of those projects, so their own files do not tell when
// they must run again.
func (s *surveyor) overOthers(p *Project) {
	var below []*Project
	for dir, q := range s.projects {
		if q != p && (p.Dir == "." || strings.HasPrefix(dir, p.Dir+"/")) {
			below = append(below, q)
		}
	}
	if len(below) == 0 {
		return
	}
	for _, t := range p.Tasks {
		if t.Sort != Reusable || strings.HasSuffix(t.From, "go.mod") {
			continue
		}
		t.Sort, t.Why, t.Writes = NeverReusable, "it contains other projects and may read their files", nil
		if slices.ContainsFunc(below, func(q *Project) bool { return q.Task(t.Name) != nil }) {
			t.Sort, t.Why = NotAdopted, "it runs the task of the same name in other projects, which they declare themselves"
		}
	}
}

// order makes checks depend on the project's builds, and every task on the
// outputs of needed projects where its script uses them.
func (p *Project) order() {
	build := p.Task("build")
	for _, t := range p.Tasks {
		if t == build || build == nil || build.Sort != Reusable || len(build.Writes) == 0 || t.Sort != Reusable {
			continue
		}
		if has(t.Name, namesCheck) && !has(t.Name, set("lint", "typecheck", "types", "vet", "eslint", "tsc")) ||
			has(t.Name, set("package", "pack", "dist")) {
			t.After = append(t.After, "build")
		}
	}
}
