package decl

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/glob"
)

// env reads the variables that a task gets.
func (l *loader) env(t *Task) {
	seen := map[string]bool{}
	read := func(list List, mayGive bool) []EnvVar {
		var out []EnvVar
		for _, it := range list.Items {
			name, val, given := strings.Cut(it.Text, "=")
			switch {
			case name == "" || strings.ContainsAny(name, " \t\n*\x00"):
				l.fail(it.Pos, `write "NAME" or "NAME=value"`, "%q is not the name of an environment variable", name)
			case given && !mayGive:
				l.fail(
					it.Pos,
					"write the name alone; a value in a declaration is not secret and belongs in env",
					"%s takes its value from the person's environment",
					name,
				)
			case strings.HasPrefix(name, "GRAYLOFT_"):
				l.fail(it.Pos, "choose another name", "variables that start with GRAYLOFT_ are reserved")
			case seen[name]:
				l.fail(it.Pos, "keep one of them", "variable %s is listed twice in env, env_unkeyed and secrets", name)
			default:
				out = append(out, EnvVar{Name: name, Value: val, Given: given})
			}
			seen[name] = true
		}
		slices.SortFunc(out, func(a, b EnvVar) int { return strings.Compare(a.Name, b.Name) })
		return out
	}
	t.Env = read(t.Decl.Env, true)
	t.EnvUnkeyed = read(t.Decl.EnvUnkeyed, false)
	t.Secrets = read(t.Decl.Secrets, false)
}

// opens reads the patterns of files that the command opens although its result
// does not depend on them.
func (l *loader) opens(t *Task) {
	list := t.Decl.Opens
	list.Items = slices.DeleteFunc(slices.Clone(list.Items), func(it Item) bool {
		if it.Text != "needs:*" {
			return false
		}
		l.fail(it.Pos, `name files, such as "**/*_test.go" or "repo:tools/*"`, "%q is not allowed in opens", it.Text)
		return true
	})
	t.Opens = l.reads(list)
}

// scratch reads the patterns of files that are kept between runs.
func (l *loader) scratch(t *Task) {
	for _, it := range t.Decl.Scratch.Items {
		if below, ok := strings.CutPrefix(it.Text, "home:"); ok {
			p, err := glob.Parse(below)
			if err != nil || !p.Literal() || p.String() == "." {
				l.fail(it.Pos, `write it like "home:.cache/tool"`, "%q is not a directory below the home directory", it.Text)
				continue
			}
			t.HomeScratch = append(t.HomeScratch, p.String())
			continue
		}
		p, err := glob.Parse(it.Text)
		if err != nil || strings.HasPrefix(it.Text, "!") || strings.Contains(it.Text, ":") {
			l.fail(
				it.Pos,
				`name files inside the project, or "home:…" for a directory below the person's home`,
				"%q is not allowed in scratch",
				it.Text,
			)
			continue
		}
		l.outsideWrites(t, "scratch", it, p)
		t.Scratch = append(t.Scratch, p)
	}
}

// reports reads the patterns of the JUnit XML files that the task makes.
func (l *loader) reports(t *Task) {
	for _, it := range t.Decl.Reports.Items {
		p, err := glob.Parse(it.Text)
		if err != nil || strings.HasPrefix(it.Text, "!") || strings.Contains(it.Text, ":") {
			l.fail(it.Pos, `name JUnit XML files inside the project, such as "reports/*.xml"`, "%q is not allowed in reports", it.Text)
			continue
		}
		l.outsideWrites(t, "reports", it, p)
		t.Reports = append(t.Reports, p)
	}
}

// outsideWrites reports a pattern of scratch or reports that overlaps one of
// the task's writes.
func (l *loader) outsideWrites(t *Task, list string, it Item, p glob.Pattern) {
	why := map[string]string{"scratch": "files kept between runs are", "reports": "a report, like a log, is"}[list]
	for i, w := range t.Writes {
		if w.Meets(p) {
			l.fail(it.Pos, "keep it in only one of the two", "%s %q overlaps %q in writes: %s never part of an output",
				list, it.Text, t.Decl.Writes.Items[i].Text, why)
		}
	}
}

// uses collects the settings that a task uses: those it lists and those its
// command names.
func (l *loader) uses(t *Task) {
	known := slices.Collect(maps.Keys(l.repo.Settings))
	check := func(pos Pos, name string) {
		if _, ok := l.repo.Settings[name]; !ok {
			l.unknown(pos, orDeclare(meant(name, known), "setting", name), "setting %q is not declared", name)
			return
		}
		t.Settings = append(t.Settings, name)
	}
	for _, it := range t.Decl.Settings.Items {
		check(it.Pos, it.Text)
	}
	for _, name := range t.Decl.Run.Named() {
		check(t.Decl.Run.Pos, name)
	}
	slices.Sort(t.Settings)
	t.Settings = slices.Compact(t.Settings)
	for _, it := range t.Decl.Locks.Items {
		if msg := badName(it.Text, true); msg != "" || strings.Contains(it.Text, "/") {
			l.fail(it.Pos, "name the resource, such as \"port-7000\"", "lock %q: %s", it.Text, orElse(msg, "it must not contain /"))
		}
		t.Locks = append(t.Locks, it.Text)
	}
	slices.Sort(t.Locks)
	t.Locks = slices.Compact(t.Locks)
}

// orDeclare is advice about a name, of which none is similar.
func orDeclare(advice, table, name string) string {
	return orElse(advice, fmt.Sprintf("declare it in %s: [%s.%s]", RootFile, table, name))
}

// limits reads timeout, slots, retries, isolation and network.
func (l *loader) limits(t *Task) {
	d := t.Decl
	if d.Timeout.Text != "" {
		var err error
		if t.Timeout, err = time.ParseDuration(d.Timeout.Text); err != nil || t.Timeout <= 0 {
			l.fail(d.Timeout.Pos, `write it like "90s" or "10m"`, "%q is not a duration", d.Timeout.Text)
		}
	}
	number := func(it Item, least, most int, what string) int {
		n, err := strconv.Atoi(it.Text)
		if err != nil || n < least || n > most {
			l.fail(it.Pos, fmt.Sprintf("write a number from %d to %d", least, most), "%s, not %s", what, it.Text)
		}
		return min(max(n, least), most)
	}
	if d.Slots.Text != "" {
		t.Slots = number(d.Slots, 1, 1024, "a task takes at least one slot")
	}
	if d.Retries.Text != "" {
		t.Retries = number(d.Retries, 0, 10, "a task can be retried only a few times")
	}
	t.Isolation = Open
	if d.Isolation.Text != "" {
		t.Isolation = Isolation(d.Isolation.Text)
		if all := []string{"open", "traced", "sealed"}; !slices.Contains(all, d.Isolation.Text) {
			l.fail(d.Isolation.Pos, meant(d.Isolation.Text, all), "isolation = %q is not valid", d.Isolation.Text)
		}
	}
	t.Network = d.Network.Text == "true"
}
