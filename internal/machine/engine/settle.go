package engine

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

// verdict is why a task has to run.
type verdict struct {
	reason  key.Reason
	changes []key.Change
	taken                 // with the key, when this was found
	note    string        // for people: why running was chosen
	listing digest.Digest // with [key.Cheaper]: what somebody else's run came out as
}

// taken is a task's ingredients with the texts that they refer to.
type taken struct {
	in    *key.Ingredients
	parts files.Parts
	key   digest.Digest
}

// read returns a reader of manifests: those just taken, and those kept.
func (tk taken) read(st *store.Store) func(digest.Digest) ([]byte, error) {
	texts := sync.OnceValue(tk.parts.All)
	return func(d digest.Digest) ([]byte, error) {
		if text, ok := texts()[d]; ok {
			return text, nil
		}
		return st.Read(d)
	}
}

// reader reads what was just taken, what is kept here, and else what the shared
// cache has: of a task that somebody else made, the ingredients are there alone.
func (r *run) reader(ctx context.Context, tk taken) func(digest.Digest) ([]byte, error) {
	here := tk.read(r.Store)
	return func(d digest.Digest) ([]byte, error) {
		text, err := here(d)
		if err == nil || d.IsZero() {
			return text, err
		}
		if _, err := r.have(ctx, []protocol.Blob{{Digest: d, Size: -1}}); err != nil {
			return nil, err
		}
		return r.Store.Read(d)
	}
}

// ingredients takes the ingredients of a task from a snapshot. Before gives
// what is counted of a task upstream: its listing, or its early key.
func (r *run) ingredients(t *graph.Task, snap *files.Snapshot, before func(*graph.Task) digest.Digest) (taken, error) {
	in := &key.Ingredients{
		Dir: t.Project.Dir, Command: t.Decl.Run.Words(), Writes: t.Decl.Writes.Texts(), Scratch: t.Decl.Scratch.Texts(),
		Isolation: string(t.Isolation), Network: t.Network, Portable: t.Portable, Platform: r.Platform,
	}
	if r.picked[t] {
		in.Args = r.opt.Args
	}
	if t.Portable {
		in.Platform = ""
	}
	for _, v := range t.Env {
		ev := key.EnvValue{Name: v.Name}
		if val, ok := r.variable(v); ok {
			ev.Set, ev.Value = true, key.EnvDigest(val)
		}
		in.Env = append(in.Env, ev)
	}
	for _, v := range t.EnvUnkeyed {
		_, set := r.variable(v)
		in.EnvUnkeyed = append(in.EnvUnkeyed, key.EnvValue{Name: v.Name, Set: set})
	}
	for _, v := range t.Secrets {
		_, set := r.variable(v)
		in.Secrets = append(in.Secrets, key.EnvValue{Name: v.Name, Set: set})
	}
	for _, name := range t.Settings {
		in.Settings = append(in.Settings, key.NamedValue{Name: name, Value: r.Graph.Chosen[name]})
	}
	for _, p := range t.Decl.Probes.Items {
		in.Probes = append(in.Probes, key.NamedValue{Name: p.Text, Value: r.probes[r.asked(p.Text, t.Project)]})
	}
	slices.SortFunc(in.Probes, func(a, b key.NamedValue) int { return cmp.Compare(a.Name, b.Name) })
	in.Probes = slices.Compact(in.Probes)
	own, needs, parts, err := snap.Reads(t)
	if err != nil {
		return taken{}, err
	}
	in.Files, in.Needs = own, needs
	for _, u := range t.KeyDependencies() {
		in.Dependencies = append(in.Dependencies, key.Dependency{Task: u.Addr(), Dir: u.Project.Dir, Listing: before(u)})
	}
	slices.SortFunc(in.Dependencies, func(a, b key.Dependency) int { return cmp.Compare(a.Task, b.Task) })
	return taken{in, parts, in.Key()}, nil
}

func (r *run) variable(v decl.EnvVar) (string, bool) {
	if v.Given {
		return v.Value, true
	}
	return lookupEnv(r.Env, v.Name)
}

func lookupEnv(env []string, name string) (string, bool) {
	for i := len(env) - 1; i >= 0; i-- {
		if val, ok := strings.CutPrefix(env[i], name+"="); ok {
			return val, true
		}
	}
	return "", false
}

// listingOf returns what is counted of a task that is done.
func (r *run) listingOf(t *graph.Task) digest.Digest {
	n := r.of[t]
	n.place.mu.Lock()
	defer n.place.mu.Unlock()
	return n.place.digest
}

func (r *run) outputs(t *graph.Task) *checkout.Outputs {
	return &checkout.Outputs{State: r.State, Files: r.Files, Store: r.Store, Task: t, Run: r.opt.Run, Report: r.sayMoved, Secrets: r.secrets(t)}
}

// lastListing reads the listing that the task had last in this checkout.
func (r *run) lastListing(t *graph.Task) (listing.List, bool) {
	last, ok := r.State.Last(t.Addr())
	if !ok || last.Listing.IsZero() {
		return nil, false
	}
	return r.readListing(last.Listing)
}

// nothing is the digest of the listing of a task that made nothing.
var nothing = listing.List(nil).Digest()

func (r *run) readListing(d digest.Digest) (listing.List, bool) {
	if d == nothing {
		return nil, true
	}
	text, err := r.Store.Read(d)
	if err != nil {
		return nil, false
	}
	l, err := listing.Parse(text)
	return l, err == nil
}

// settleTask looks for what is there, and answers with a result or with the
// verdict that the task has to run.
func (r *run) settleTask(ctx context.Context, n *node, demand bool) event {
	began := r.Now()
	t := n.task
	tk, err := r.ingredients(t, r.snapshot(), r.listingOf)
	if err != nil {
		return r.unreadable(n, err)
	}
	last, seen := r.State.Last(t.Addr())
	must := func(reason key.Reason, changes ...key.Change) event {
		return event{n: n, verdict: &verdict{reason: reason, changes: changes, taken: tk}}
	}
	if reason, changes := r.always(t); reason != "" {
		return must(reason, changes...)
	}
	if demand {
		return must(key.Evicted)
	}
	res := &Result{Task: t, Key: tk.key, At: began.Sub(r.began)}
	if seen && last.Key == tk.key && !last.Failed {
		if list, ok := r.readListing(last.Listing); ok {
			right, err := r.outputs(t).Right(ctx, list)
			if err != nil {
				return r.unreadable(n, err)
			}
			if right {
				res.Outcome, res.Listing, res.Log, res.Made, res.Ingredients = Current, last.Listing, last.Log, last.Took, last.Ingredients
				res.Took = r.Now().Sub(began)
				return event{n: n, result: res, place: &placedAt{list, true, nil}}
			}
		}
	}
	ev, gone := r.fromEntry(ctx, n, tk, res)
	if ev != nil {
		if ev.result != nil {
			ev.result.Took = r.Now().Sub(began)
		}
		return *ev
	}
	reason, changes := r.reason(ctx, tk, last, seen)
	if gone && (reason == key.New || reason == key.Outputs) {
		reason, changes = key.Evicted, nil
	}
	return must(reason, changes...)
}

// always returns why a task has to run whatever is there, or nothing.
func (r *run) always(t *graph.Task) (key.Reason, []key.Change) {
	switch {
	case r.opt.NoReuse:
		return key.NoReuse, nil
	case t.Reuse == decl.Never:
		return key.ReuseNever, nil
	case t.WithoutWrites() != nil:
		return key.NoWrites, []key.Change{{Reason: key.NoWrites, What: t.WithoutWrites().Addr()}}
	}
	return "", nil
}

func (r *run) unreadable(n *node, err error) event {
	res := &Result{Task: n.task, Outcome: Failed, Message: err.Error(), At: r.Now().Sub(r.began)}
	res.LogText = []byte(err.Error() + "\n")
	if errors.Is(err, context.Canceled) {
		res.Outcome, res.Message, res.LogText = Stopped, "", nil
	}
	return event{n: n, result: res}
}

// reason compares with the last time the task came out in this checkout.
func (r *run) reason(ctx context.Context, tk taken, last checkout.Record, seen bool) (key.Reason, []key.Change) {
	switch {
	case !seen:
		return key.New, nil
	case last.Key == tk.key && last.Failed:
		return key.FailedBefore, nil
	case last.Key == tk.key:
		return key.Outputs, nil
	}
	read := r.reader(ctx, tk)
	text, err := read(last.Ingredients)
	if err == nil {
		if before, err := key.Decode(text); err == nil {
			if reason, of := key.First(key.Compare(before, tk.in, read)); reason != "" {
				return reason, of
			}
			// Equal, and yet not kept: its files moved while it ran.
			return key.Files, []key.Change{{Reason: key.Files, How: "changed"}}
		}
	}
	return key.New, nil
}
