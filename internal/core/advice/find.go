package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/amount"
)

func (f finder) flaky() []Finding {
	passed, failed, keys := 0, 0, 0
	out := f.finding(Flaky, "")
	for _, u := range f.task.Unstable {
		if u.Passed == 0 || u.Failed == 0 {
			continue
		}
		passed, failed, keys = passed+u.Passed, failed+u.Failed, keys+1
		out.Runs = append(out.Runs, u.FailedRun, u.PassedRun)
		out.Tests = append(out.Tests, u.Tests...)
	}
	if keys == 0 {
		return nil
	}
	slices.Sort(out.Tests)
	out.Tests = slices.Compact(out.Tests)
	out.Says = fmt.Sprintf("%s failed and passed with the same inputs", f.task.Name)
	out.Evidence = append(out.Evidence, fmt.Sprintf("%s of %s: %s failed and %s passed",
		amount.Count(failed+passed, "execution", "executions"), amount.Count(keys, "key", "keys"),
		amount.Count(failed, "time", "times"), amount.Count(passed, "time", "times")))
	out.Change = "make it independent of time, order and the machine; retries = 1 hides it until then"
	if len(out.Tests) > 0 {
		out.Evidence = append(out.Evidence, "tests that failed and passed: "+list(out.Tests))
		out.Change = "fix " + list(out.Tests) + "; retries = 1 hides it until then"
	}
	return []Finding{out}
}

func (f finder) notReproducible() []Finding {
	out := f.finding(NotReproducible, f.task.Name+" gave different outputs for the same inputs")
	keys := 0
	for _, u := range f.task.Unstable {
		if u.Listings > 1 {
			keys++
			out.Runs = append(out.Runs, u.PassedRun, u.OtherRun)
		}
	}
	if keys == 0 {
		return nil
	}
	out.Evidence = append(out.Evidence, fmt.Sprintf("%s with more than one listing", amount.Count(keys, "key", "keys")))
	out.Change = "run grayloft reproduce " + f.task.Name +
		", which names the files that differ; dependents run again for nothing until then"
	return []Finding{out}
}

// isSlower tells whether fetching takes longer than running at a place, and
// whether there are enough samples to say so.
func (f finder) isSlower(p Place) (slower, known bool) {
	if p.Run.N < f.t.Samples || p.Fetch.N < f.t.Samples {
		return false, false
	}
	return p.Fetch.Median()-p.Run.Median() >= f.t.SlowerBy, true
}

func (f finder) notWorthSharing() []Finding {
	if d := f.task.Declared; d.Reuse == "local" || d.Reuse == "never" {
		return nil
	}
	var slow []Place
	everywhere := true
	for _, p := range f.task.Places {
		slower, known := f.isSlower(p)
		if slower {
			slow = append(slow, p)
		}
		if p.Run.N+p.Fetch.N > 0 && !(slower && known) {
			everywhere = false
		}
	}
	var out []Finding
	for _, p := range slow {
		x := f.finding(NotWorthSharing, fmt.Sprintf("at %s, fetching %s takes longer than running it", p.Name, f.task.Name))
		x.Place = p.Name
		lost := p.FetchTook - float64(p.Fetch.N)*p.Run.Median()
		x.SecondsPerWeek = max(0, lost) / f.in.Weeks
		x.Evidence = append(x.Evidence, fmt.Sprintf("running takes %s (median of %d), fetching %s (median of %d)",
			amount.Seconds(p.Run.Median()), p.Run.N, amount.Seconds(p.Fetch.Median()), p.Fetch.N))
		if p.FetchTook > 0 && p.FetchBytes > 0 {
			x.Evidence = append(x.Evidence, fmt.Sprintf("transfers came at %s", speed(float64(p.FetchBytes)/p.FetchTook)))
		}
		x.Change, x.At = f.sharingChange(everywhere)
		out = append(out, x)
	}
	return out
}

func (f finder) sharingChange(everywhere bool) (change, at string) {
	d := f.task.Declared
	at = cmp.Or(d.ReuseAt, d.At)
	switch {
	case everywhere:
		return `set reuse = "local": it holds at every place`, at
	case d.Reuse == "always":
		return `set reuse = "auto": each place then does what is faster there`, at
	}
	return `nothing: reuse = "auto" runs it there once both ways are measured`, at
}

func (f finder) rerunsForNothing() []Finding {
	if f.task.Declared.WritesNothing {
		return nil
	}
	var found []Cause
	for _, c := range f.task.Causes {
		if c.Reruns >= f.t.Reruns && float64(c.SameOutputs) >= f.t.SameOutputs*float64(c.Reruns) {
			found = append(found, c)
		}
	}
	// A directory says more than its files, unless one file is most of it.
	slices.SortFunc(found, func(a, b Cause) int {
		return cmp.Or(cmp.Compare(b.Reruns, a.Reruns), cmp.Compare(len(b.Path), len(a.Path)), cmp.Compare(a.Path, b.Path))
	})
	var out []Finding
	var told []string
	for _, c := range found {
		if slices.ContainsFunc(told, func(p string) bool { return within(p, c.Path) || within(c.Path, p) }) || isMostlyOne(c, found) {
			continue
		}
		told = append(told, c.Path)
		x := f.finding(RerunsForNothing, fmt.Sprintf("%s makes %s run again, but its outputs stay the same", c.Path, f.task.Name))
		x.At = cmp.Or(f.task.Declared.ReadsAt, x.At)
		x.SecondsPerWeek = c.Seconds * float64(c.SameOutputs) / float64(c.Reruns) / f.in.Weeks
		x.Evidence = append(x.Evidence, fmt.Sprintf("%s of %s changed nothing, and took %s",
			fmt.Sprint(c.SameOutputs), amount.Count(c.Reruns, "rerun", "reruns"), amount.Seconds(c.Seconds)))
		pattern := c.Path
		if strings.HasSuffix(pattern, "/") {
			pattern += "**"
		}
		x.Change = fmt.Sprintf("exclude %s from its reads, or move what reads it into a task of its own", pattern)
		out = append(out, x)
	}
	return out
}

// within tells whether a path is inside a directory.
func within(dir, p string) bool { return strings.HasSuffix(dir, "/") && strings.HasPrefix(p, dir) }

// isMostlyOne tells whether one path below a directory caused nearly all of its
// reruns.
func isMostlyOne(dir Cause, all []Cause) bool {
	return slices.ContainsFunc(all, func(c Cause) bool {
		return c.Path != dir.Path && within(dir.Path, c.Path) && float64(c.Reruns) >= 0.9*float64(dir.Reruns)
	})
}

func (f finder) neverShared() []Finding {
	d := f.task.Declared
	perWeek := f.task.Repeated / f.in.Weeks
	if perWeek < f.t.Repeats {
		return nil
	}
	x := f.finding(NeverShared, "")
	switch {
	case !d.HasWrites:
		x.Says, x.Change = "it does not declare its writes", "declare its writes; writes = [] if it writes nothing"
	case !d.HasProbes:
		x.Says, x.Change = "it does not declare its probes", "declare its probes; probes = [] if it depends on no tool"
	case d.Reuse == "local" || d.Reuse == "never":
		x.Says, x.Change, x.At = fmt.Sprintf(
			"its reuse is %q",
			d.Reuse,
		), `set reuse = "auto", if others may use its outputs`, cmp.Or(
			d.ReuseAt,
			d.At,
		)
	default:
		return nil
	}
	x.Says = fmt.Sprintf("%s is executed again for inputs that somebody had already: %s", f.task.Name, x.Says)
	x.Evidence = append(x.Evidence, fmt.Sprintf("%s of repeated work a week", amount.Seconds(perWeek)))
	x.SecondsPerWeek = perWeek
	return []Finding{x}
}

func (f finder) placesDiffer() []Finding {
	var out []Finding
	for _, m := range f.task.Misses {
		if m.N < f.t.Misses {
			continue
		}
		x := f.finding(
			PlacesDiffer,
			fmt.Sprintf("%s does not reuse %s from %s: %s differs", m.Place, f.task.Name, m.Other, ingredient(m)),
		)
		x.Place, x.Runs = m.Place, append(x.Runs, m.Run)
		x.SecondsPerWeek = m.Seconds / f.in.Weeks
		x.Evidence = append(
			x.Evidence,
			fmt.Sprintf("%s, %s in total, would have been reused", amount.Count(m.N, "execution", "executions"), amount.Seconds(m.Seconds)),
		)
		x.Change = map[string]string{
			"probe":       "use the same version of the tool at both places",
			"environment": "give " + m.Name + " the same value, or declare it in env_unkeyed if the result does not depend on it",
			"platform":    "set portable = true, if its outputs serve on any platform",
		}[m.Kind]
		out = append(out, x)
	}
	return out
}

func ingredient(m Miss) string {
	if m.Kind == "platform" {
		return "the platform"
	}
	return m.Kind + " " + m.Name
}

func (f finder) longPole() []Finding {
	n := f.task.CriticalRuns
	if f.in.WorkedRuns < f.t.PathRuns || n == 0 || float64(n) < f.t.OnPath*float64(f.in.WorkedRuns) {
		return nil
	}
	part := f.task.CriticalPart / float64(n)
	if part <= f.t.PathShare {
		return nil
	}
	x := f.finding(LongPole, fmt.Sprintf("most runs wait for %s", f.task.Name))
	x.Evidence = append(
		x.Evidence,
		fmt.Sprintf("on the critical path of %d of %d runs, for %.0f %% of their time", n, f.in.WorkedRuns, 100*part),
	)
	x.SecondsPerWeek = f.task.CriticalTook * float64(n) / f.in.Weeks
	x.Change = fmt.Sprintf("split it, or make it faster: a run gains up to %s", amount.Seconds(f.task.CriticalTook))
	return []Finding{x}
}

// list joins names, the first three of them.
func list(names []string) string {
	if len(names) <= 3 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
}

func speed(bytesPerSecond float64) string {
	bits := bytesPerSecond * 8
	switch {
	case bits < 1e6:
		return fmt.Sprintf("%.0f kbit/s", bits/1e3)
	case bits < 1e7:
		return fmt.Sprintf("%.1f Mbit/s", bits/1e6)
	case bits < 1e9:
		return fmt.Sprintf("%.0f Mbit/s", bits/1e6)
	}
	return fmt.Sprintf("%.1f Gbit/s", bits/1e9)
}
