package key

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
)

// Reason says why a task has to run. It is the word that people read.
type Reason string

// The reasons, in order of precedence.
const (
	NoReuse      Reason = "no-reuse"
	ReuseNever   Reason = "reuse-never"
	NoWrites     Reason = "no-writes"
	New          Reason = "new"
	Declaration  Reason = "declaration"
	Setting      Reason = "setting"
	Environment  Reason = "environment"
	Probe        Reason = "probe"
	Files        Reason = "files"
	Upstream     Reason = "upstream"
	Outputs      Reason = "outputs"
	FailedBefore Reason = "failed-before"
	Evicted      Reason = "evicted"
	Faster       Reason = "faster"
	Unkept       Reason = "unkept"
)

// Order is the precedence of the reasons: if several hold, the first one is
// given.
var Order = []Reason{
	NoReuse, ReuseNever, NoWrites, New, Declaration, Setting, Environment, Probe, Files, Upstream, Outputs, FailedBefore, Evicted, Faster,
	Unkept,
}

// Legend explains each reason in one line.
var Legend = map[Reason]string{
	NoReuse:      "--no-reuse was given",
	ReuseNever:   "its reuse is \"never\"",
	NoWrites:     "the writes of the task or of a dependency are not declared",
	New:          "no earlier run here, and no shared result",
	Declaration:  "its declaration changed",
	Setting:      "a setting it uses changed",
	Environment:  "an environment variable it declares changed",
	Probe:        "the output of a probe changed",
	Files:        "a file it reads changed",
	Upstream:     "the outputs of a dependency changed",
	Outputs:      "its outputs are missing or altered, and no copy is left",
	FailedBefore: "its last run failed or was stopped",
	Evicted:      "the shared cache no longer has its result",
	Faster:       "running is faster than fetching here",
	Unkept:       "outputs of the task or of a dependency could not be kept, so nobody knows that they are the same",
}

// Change is one ingredient in which two lists differ.
type Change struct {
	Reason Reason
	What   string // a path, a variable, a probe, an address
	How    string // new, changed or gone
	Path   string // for files: from the root
	// Before and After are the two values: the digest of a file or listing, the
	// value of a setting, the output of a probe; empty if there was none, or if
	// only a digest of it is kept.
	Before, After string
}

// Compare returns the differences between two lists of ingredients, in order of
// precedence. Read returns a manifest; if one is unavailable, files are
// reported as changed without names.
func Compare(before, after *Ingredients, read func(digest.Digest) ([]byte, error)) []Change {
	var out []Change
	definition := func(what, was, is string) {
		if was != is {
			out = append(out, Change{Reason: Declaration, What: what, How: "changed", Before: was, After: is})
		}
	}
	words := func(list []string) string { return strings.Join(list, " ") }
	each := func(list []string) string { return fmt.Sprintf("%q", list) }
	definition("directory", before.Dir, after.Dir)
	if !slices.Equal(before.Command, after.Command) {
		out = append(
			out,
			Change{Reason: Declaration, What: "run", How: "changed", Before: words(before.Command), After: words(after.Command)},
		)
	}
	definition("arguments", each(before.Args), each(after.Args))
	definition("writes", each(before.Writes), each(after.Writes))
	definition("scratch", each(before.Scratch), each(after.Scratch))
	definition("isolation", describeIsolation(before), describeIsolation(after))
	definition("portable", fmt.Sprint(before.Portable), fmt.Sprint(after.Portable))
	definition("platform", before.Platform, after.Platform)

	env := func(v EnvValue) (string, EnvValue) { return v.Name, v }
	set := func(v EnvValue) string {
		if v.Set {
			return "set"
		}
		return "not set"
	}
	value := func(n NamedValue) string { return n.Value }
	name := func(n NamedValue) (string, NamedValue) { return n.Name, n }
	out = append(out, compareNamed(Setting, before.Settings, after.Settings, name, value)...)
	out = append(out, compareNamed(Environment, before.Env, after.Env, env, set)...)
	out = append(out, compareNamed(Environment, before.EnvUnkeyed, after.EnvUnkeyed, env, set)...)
	out = append(out, compareNamed(Environment, before.Secrets, after.Secrets, env, set)...)
	out = append(out, compareNamed(Probe, before.Probes, after.Probes, name, value)...)
	out = append(out, compareFiles(before.Files, after.Files, after.Dir, read)...)
	out = append(out, compareOffers(before.Needs, after.Needs, read)...)
	out = append(
		out,
		compareNamed(Upstream, before.Dependencies, after.Dependencies, func(u Dependency) (string, Dependency) { return u.Task, u },
			func(u Dependency) string { return u.Listing.String() })...)
	return out
}

func describeIsolation(in *Ingredients) string {
	if in.Network {
		return in.Isolation + ", with the network"
	}
	return in.Isolation
}

// compareNamed compares two lists whose members have names.
func compareNamed[T comparable](reason Reason, before, after []T, id func(T) (string, T), text func(T) string) []Change {
	old := map[string]T{}
	for _, b := range before {
		name, v := id(b)
		old[name] = v
	}
	var out []Change
	for _, a := range after {
		name, v := id(a)
		was, ok := old[name]
		switch {
		case !ok:
			out = append(out, Change{Reason: reason, What: name, How: "new", After: text(v)})
		case was != v:
			out = append(out, Change{Reason: reason, What: name, How: "changed", Before: text(was), After: text(v)})
		}
		delete(old, name)
	}
	for name, was := range old {
		out = append(out, Change{Reason: reason, What: name, How: "gone", Before: text(was)})
	}
	slices.SortFunc(out, func(a, b Change) int { return cmp.Compare(a.What, b.What) })
	return out
}

// compareFiles names the differences between two manifests: paths in dir
// relative to it, others from the root.
func compareFiles(before, after digest.Digest, dir string, read func(digest.Digest) ([]byte, error)) []Change {
	if before == after {
		return nil
	}
	diffs, err := listing.Compare(before, after, read)
	if err != nil {
		return []Change{{Reason: Files, How: "changed"}}
	}
	var out []Change
	for _, d := range diffs {
		c := Change{Reason: Files, What: d.Path, How: "changed", Path: d.Path, Before: describeRow(d.Before), After: describeRow(d.After)}
		if dir != "." {
			c.What = strings.TrimPrefix(c.What, dir+"/")
		}
		switch {
		case d.Before == nil:
			c.How = "new"
		case d.After == nil:
			c.How = "evicted"
		}
		out = append(out, c)
	}
	return out
}

// describeRow says what a row contains: a digest, or the target of a link.
func describeRow(r *listing.Row) string {
	if r == nil {
		return ""
	}
	if d, ok := r.Blob(); ok {
		return d.String()
	}
	return "→ " + r.Target
}

func compareOffers(before, after []Offer, read func(digest.Digest) ([]byte, error)) []Change {
	old := map[string]Offer{}
	for _, o := range before {
		old[o.Project] = o
	}
	var out []Change
	for _, o := range after {
		was, ok := old[o.Project]
		delete(old, o.Project)
		switch {
		case !ok:
			out = append(out, Change{Reason: Declaration, What: path.Join("needs", o.Project), How: "new"})
		case was != o:
			out = append(out, compareFiles(was.Files, o.Files, ".", read)...)
		}
	}
	for _, o := range before {
		if _, left := old[o.Project]; left {
			out = append(out, Change{Reason: Declaration, What: path.Join("needs", o.Project), How: "gone"})
		}
	}
	return out
}

// First returns the first reason in order of precedence among changes, and the
// changes that belong to it.
func First(changes []Change) (Reason, []Change) {
	for _, r := range Order {
		var of []Change
		for _, c := range changes {
			if c.Reason == r {
				of = append(of, c)
			}
		}
		if len(of) > 0 {
			return r, of
		}
	}
	return "", nil
}
