package key

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
)

// Reason says why a task has to run, in the word that people read.
type Reason string

// The reasons, in the order in which the first that holds is given.
const (
	Asked       Reason = "asked"
	Volatile    Reason = "volatile"
	Undeclared  Reason = "undeclared"
	New         Reason = "new"
	Definition  Reason = "definition"
	Setting     Reason = "setting"
	Environment Reason = "environment"
	Probe       Reason = "probe"
	Files       Reason = "files"
	FromBefore  Reason = "upstream"
	Writes      Reason = "writes"
	Broken      Reason = "broken"
	Gone        Reason = "gone"
	Cheaper     Reason = "cheaper"
)

// Legend explains each reason in one line.
var Legend = map[Reason]string{
	Asked:       "--anew was given",
	Volatile:    "its reuse is \"never\"",
	Undeclared:  "it, or a task before it, does not say what it writes",
	New:         "it has not been seen here, and nobody shared it",
	Definition:  "its declaration changed",
	Setting:     "a setting that it uses changed",
	Environment: "an environment variable that it declares changed",
	Probe:       "the output of a probe changed",
	Files:       "a file that it reads changed",
	FromBefore:  "a task before it came out different",
	Writes:      "its outputs are missing or altered, and no copy is left",
	Broken:      "it failed last time",
	Gone:        "the shared cache no longer has it",
	Cheaper:     "running it beats fetching it here",
}

// Change is one ingredient that two lists do not agree on.
type Change struct {
	Reason Reason
	What   string // a path, a variable, a probe, an address
	How    string // new, changed, gone
}

// Compare returns what sets two lists of ingredients apart, in the order of
// reasons. Read returns a manifest; where one is not to be had, files are said
// to have changed without naming them.
func Compare(before, after *Ingredients, read func(digest.Digest) ([]byte, error)) []Change {
	var out []Change
	definition := func(what string, same bool) {
		if !same {
			out = append(out, Change{Definition, what, "changed"})
		}
	}
	definition("directory", before.Dir == after.Dir)
	definition("run", slices.Equal(before.Command, after.Command))
	definition("arguments", slices.Equal(before.Args, after.Args))
	definition("writes", slices.Equal(before.Writes, after.Writes))
	definition("scratch", slices.Equal(before.Scratch, after.Scratch))
	definition("isolation", before.Isolation == after.Isolation && before.Network == after.Network)
	definition("portable", before.Portable == after.Portable)
	definition("platform", before.Platform == after.Platform)

	out = append(out, named(Setting, before.Settings, after.Settings, func(n Named) (string, Named) { return n.Name, n })...)
	env := func(v EnvValue) (string, EnvValue) { return v.Name, v }
	out = append(out, named(Environment, before.Env, after.Env, env)...)
	out = append(out, named(Environment, before.EnvUncounted, after.EnvUncounted, env)...)
	out = append(out, named(Probe, before.Probes, after.Probes, func(n Named) (string, Named) { return n.Name, n })...)
	out = append(out, files(before.Files, after.Files, after.Dir, read)...)
	out = append(out, offers(before.Needs, after.Needs, read)...)
	out = append(out, named(FromBefore, before.Before, after.Before, func(u Upstream) (string, Upstream) { return u.Task, u })...)
	return out
}

// named compares two lists whose members have names.
func named[T comparable](reason Reason, before, after []T, id func(T) (string, T)) []Change {
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
			out = append(out, Change{reason, name, "new"})
		case was != v:
			out = append(out, Change{reason, name, "changed"})
		}
		delete(old, name)
	}
	for name := range old {
		out = append(out, Change{reason, name, "gone"})
	}
	slices.SortFunc(out, func(a, b Change) int { return cmp.Compare(a.What, b.What) })
	return out
}

// files names what differs in two manifests: paths in dir as they read from
// there, others from the root.
func files(before, after digest.Digest, dir string, read func(digest.Digest) ([]byte, error)) []Change {
	if before == after {
		return nil
	}
	diffs, err := listing.Compare(before, after, read)
	if err != nil {
		return []Change{{Reason: Files, How: "changed"}}
	}
	var out []Change
	for _, d := range diffs {
		c := Change{Reason: Files, What: d.Path, How: "changed"}
		if dir != "." {
			c.What = strings.TrimPrefix(c.What, dir+"/")
		}
		switch {
		case d.Before == nil:
			c.How = "new"
		case d.After == nil:
			c.How = "gone"
		}
		out = append(out, c)
	}
	return out
}

func offers(before, after []Offered, read func(digest.Digest) ([]byte, error)) []Change {
	old := map[string]Offered{}
	for _, o := range before {
		old[o.Project] = o
	}
	var out []Change
	for _, o := range after {
		was, ok := old[o.Project]
		delete(old, o.Project)
		switch {
		case !ok:
			out = append(out, Change{Definition, path.Join("needs", o.Project), "new"})
		case was != o:
			out = append(out, files(was.Files, o.Files, ".", read)...)
		}
	}
	for _, o := range before {
		if _, left := old[o.Project]; left {
			out = append(out, Change{Definition, path.Join("needs", o.Project), "gone"})
		}
	}
	return out
}

// First returns the first reason of the order among changes and what belongs
// to it.
func First(changes []Change) (Reason, []Change) {
	order := []Reason{Definition, Setting, Environment, Probe, Files, FromBefore}
	for _, r := range order {
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
