package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/term"
)

type taskDetail struct {
	Task      string         `json:"task"`
	Project   string         `json:"project"`
	Dir       string         `json:"dir"`
	Help      string         `json:"help"`
	Run       term.Sourced   `json:"run"`
	Words     []string       `json:"words"` // the words that are executed, with the values of settings
	Env       []term.Sourced `json:"env"`
	Settings  []term.Sourced `json:"settings"`
	Reads     []term.Sourced `json:"reads"`
	Writes    []term.Sourced `json:"writes"` // null: not declared, so the task always runs
	Opens     []term.Sourced `json:"opens"`
	Scratch   []term.Sourced `json:"scratch"`
	Offers    []term.Sourced `json:"offers"` // of its project
	Probes    []term.Sourced `json:"probes"` // null: not declared, so nothing is shared
	After     []string       `json:"after"`
	AfterFrom []term.Sourced `json:"after_from"` // the same, with the item that names each
	Before    []string       `json:"before"`
	Reuse     string         `json:"reuse"`
	Isolation string         `json:"isolation"`
	Network   bool           `json:"network"`
	Timeout   string         `json:"timeout"`
	Retries   int            `json:"retries"`
	Slots     int            `json:"slots"`
	Locks     []string       `json:"locks"`
	Portable  bool           `json:"portable"`
	Measured  string         `json:"measured,omitempty"` // what was measured here for running and for fetching
}

func (a *app) describeTask(r *repository, t *graph.Task) (taskDetail, error) {
	run, err := t.Decl.Run.With(r.graph.Repo, r.graph.Chosen)
	if err != nil {
		return taskDetail{}, exit{exitWrong, err.Error()}
	}
	d := taskDetail{
		Task: t.Addr(), Project: t.Project.Name, Dir: t.Project.Dir, Help: t.Help,
		Run: source(t.Decl.Run.String(), t.Decl.Run.Pos), Words: run.Words(),
		Reads: list(t.Decl.Reads), Writes: list(t.Decl.Writes), Probes: list(t.Decl.Probes), Offers: list(t.Project.Offers),
		Opens: append([]term.Sourced{}, list(t.Decl.Opens)...), Scratch: append([]term.Sourced{}, list(t.Decl.Scratch)...),
		Settings: []term.Sourced{}, AfterFrom: []term.Sourced{},
		After: term.Addresses(
			t.Dependencies,
		), Before: term.Addresses(t.Dependents), Reuse: string(t.Reuse), Isolation: string(t.Isolation), Network: t.Network,
		Slots: t.Slots, Locks: append([]string{}, t.Locks...), Portable: t.Portable, Retries: t.Retries,
	}
	if d.Reads == nil {
		d.Reads = []term.Sourced{standard("the project's files that the ignore files do not exclude")}
	}
	if d.Offers == nil {
		d.Offers = []term.Sourced{standard("the project's files that the ignore files do not exclude")}
	}
	for _, u := range t.Dependencies {
		it := t.DeclaredAt(u)
		s := source(u.Addr(), it.Pos)
		if it.Text != u.Addr() {
			s.By += " by \"" + it.Text + "\""
		}
		d.AfterFrom = append(d.AfterFrom, s)
	}
	if t.Timeout > 0 {
		d.Timeout = t.Timeout.String()
	}
	a.describeEnv(r, t, &d)
	d.Measured = a.measured(r, t)
	return d, nil
}

// measured says what was measured here for running a task and for fetching its
// outputs; nothing if one of the two is missing.
func (a *app) measured(r *repository, t *graph.Task) string {
	url, token := a.service(r)
	if _, err := os.Stat(filepath.Join(r.root, checkout.Dir)); err != nil || token == "" {
		return ""
	}
	state, err := checkout.Open(r.root)
	if err != nil {
		return ""
	}
	defer state.Close()
	st, err := openStore()
	if err != nil {
		return ""
	}
	last, _ := state.Last(t.Addr())
	text, err := st.Read(last.Listing)
	if err != nil {
		return ""
	}
	made, err := listing.Parse(text)
	if err != nil {
		return ""
	}
	c := decide.RunOrFetch(last.Here, made.Bytes(), st.Line(strings.TrimSuffix(url, "/")))
	if c.Running == 0 || c.Fetching == 0 {
		return ""
	}
	out := fmt.Sprintf(
		"runs in about %s here; fetching its %s takes about %s",
		term.InWords(c.Running),
		term.Size(c.Bytes),
		term.InWords(c.Fetching),
	)
	switch {
	case t.Reuse != decl.Auto:
		return out + fmt.Sprintf(", and reuse is %q", t.Reuse)
	case last.Fetch:
		return out + "; a run here gave different outputs once, so it is fetched"
	case c.Run:
		return out + ": it runs if none of its outputs are here"
	}
	return out + ": it is fetched"
}

// describeEnv lists the environment as the task would get it here.
func (a *app) describeEnv(r *repository, t *graph.Task, d *taskDetail) {
	for _, v := range decl.FixedEnv() {
		d.Env = append(d.Env, standard(v))
	}
	for _, name := range []string{"PATH", "HOME", "TMPDIR"} {
		if _, ok := os.LookupEnv(name); ok {
			d.Env = append(d.Env, term.Sourced{Value: name, From: "not part of the key", By: "person"})
		}
	}
	for _, it := range t.Decl.Env.Items {
		s := source(it.Text, it.Pos)
		if !strings.Contains(it.Text, "=") {
			if val, ok := os.LookupEnv(it.Text); ok {
				s.Value += "=" + val
			} else {
				s.Value += " (not set here)"
			}
		}
		d.Env = append(d.Env, s)
	}
	for _, it := range t.Decl.EnvUnkeyed.Items {
		d.Env = append(d.Env, source(it.Text+" ("+ifUnset(it.Text, "not part of the key")+")", it.Pos))
	}
	for _, it := range t.Decl.Secrets.Items {
		d.Env = append(d.Env, source(it.Text+" ("+ifUnset(it.Text, "secret: not part of the key, masked")+")", it.Pos))
	}
	for _, name := range t.Settings {
		set := r.graph.Repo.Settings[name]
		s := term.Sourced{Value: set.Var() + "=" + r.graph.Chosen[name], From: set.Pos.At(), By: "setting " + name}
		d.Env = append(d.Env, s)
		d.Settings = append(d.Settings, term.Sourced{Value: name + " = " + r.graph.Chosen[name], From: set.Pos.At(), By: chosenBy(r, name)})
	}
}

// ifUnset adds to a note about a variable that it is not set here.
func ifUnset(name, note string) string {
	if _, ok := os.LookupEnv(name); !ok {
		return note + "; not set here"
	}
	return note
}

// chosenBy says where the value of a setting comes from.
func chosenBy(r *repository, name string) string {
	by := "default"
	for _, m := range r.choice.modes {
		if mode := r.graph.Repo.Modes[m]; mode != nil {
			if _, ok := mode.Values[name]; ok {
				by = "mode " + m
			}
		}
	}
	if slices.ContainsFunc(r.choice.sets, func(s string) bool { return strings.HasPrefix(s, name+"=") }) {
		by = "--set"
	}
	return by
}

func (a *app) showTask(r *repository, t *graph.Task) error {
	d, err := a.describeTask(r, t)
	if err != nil {
		return err
	}
	if a.Format == "json" {
		return a.JSON(d)
	}
	fmt.Fprintln(a.Out, a.Bold(d.Task))
	if d.Help != "" {
		fmt.Fprintln(a.Out, d.Help)
	}
	fmt.Fprintln(a.Out)
	a.Row("runs", []term.Sourced{{Value: commandLine(d.Words), From: d.Run.From, By: d.Run.By}})
	a.Row("in", []term.Sourced{{Value: d.Dir + "/", From: "", By: ""}})
	a.Row("with", d.Env)
	a.Row("settings", d.Settings)
	a.Row("reads", d.Reads)
	switch {
	case d.Writes == nil:
		a.Row("writes", []term.Sourced{{Value: "not declared: the task and its dependents always run", From: "add writes", By: ""}})
	case len(d.Writes) == 0:
		a.Row("writes", []term.Sourced{source("nothing", t.Decl.Writes.Pos)})
	default:
		a.Row("writes", d.Writes)
	}
	a.Row("opens", d.Opens)
	a.Row("scratch", d.Scratch)
	a.Row("offers", d.Offers)
	if d.Probes == nil {
		a.Row("probes", []term.Sourced{{Value: "not declared: outputs stay on this machine", From: "add probes", By: ""}})
	} else {
		a.Row("probes", d.Probes)
	}
	a.Row("after", d.AfterFrom)
	a.Row("before", term.Plain(d.Before))
	if d.Measured != "" {
		a.Row("measured", term.Plain([]string{d.Measured}))
	}
	for _, f := range []struct {
		name, val string
		it        decl.Item
	}{
		{"reuse", d.Reuse, t.Decl.Reuse}, {"isolation", isolationText(t), t.Decl.Isolation}, {"timeout", d.Timeout, t.Decl.Timeout},
		{"retries", fmt.Sprint(d.Retries), t.Decl.Retries}, {"slots", fmt.Sprint(d.Slots), t.Decl.Slots},
		{"locks", strings.Join(d.Locks, ", "), decl.Item{Pos: t.Decl.Locks.Pos}}, {"portable", fmt.Sprint(d.Portable), t.Decl.Portable},
	} {
		if f.it.Pos.File != "" {
			a.Row(f.name, []term.Sourced{source(f.val, f.it.Pos)})
		} else if f.name == "reuse" || f.name == "isolation" {
			a.Row(f.name, []term.Sourced{standard(f.val)})
		}
	}
	return nil
}

func isolationText(t *graph.Task) string {
	if t.Network {
		return string(t.Isolation) + ", with the network"
	}
	return string(t.Isolation)
}

// commandLine writes words as a person would type them into a shell.
func commandLine(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = decl.ShellQuote(w)
	}
	return strings.Join(out, " ")
}
