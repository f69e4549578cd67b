package engine

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/protocol"
)

const maxTries = 5

// execute runs a task that has to run, in a slot.
func (r *run) execute(ctx context.Context, n *node, v *verdict, slot int) (ev event) {
	t := n.task
	began := r.Now()
	unlock, waited, err := r.State.Lock(ctx, t.Addr())
	if err != nil {
		return r.unreadable(n, err)
	}
	defer unlock()
	if waited {
		if err := r.State.Reload(); err != nil {
			return r.unreadable(n, err)
		}
		return event{n: n, again: true}
	}
	gone, err := (*node)(nil), error(nil)
	if t.Isolation == decl.Sealed {
		gone, err = r.haveUpstream(ctx, t)
	} else {
		var brought []brought
		brought, gone, err = r.bringUpstream(ctx, t)
		defer func() { ev.brought = brought }()
	}
	if err != nil {
		return r.unreadable(n, err)
	}
	if gone != nil {
		return event{n: n, gone: gone}
	}
	before := seen{taken: v.taken}
	if t.Reuse != decl.Never || t.Isolation != decl.Open { // else nothing rests on what it reads
		if before, err = r.look(ctx, t); err != nil {
			return r.unreadable(n, err)
		}
	}
	if before.key != v.key {
		// Files moved since they were looked at: another key, and maybe one
		// that is known.
		if n.tries++; n.tries < maxTries {
			r.refresh(ctx)
			return event{n: n, again: true}
		}
	}
	last, _ := r.lastListing(t)
	out := r.outputs(t)
	h := r.hold(t, before)
	defer h.release()
	if h.stage == nil {
		if err := out.Clear(ctx, last); err != nil {
			return r.unreadable(n, err)
		}
	}
	r.Observer.Started(t, began.Sub(r.began), slot)
	res := &Result{
		Task: t, Reason: v.reason, Changes: v.changes, Key: before.key, Slot: slot, At: began.Sub(r.began), Message: v.note,
	}
	log := tasklog.New(r.Now, func(line string) { r.Observer.Line(t, line) })
	log.Mask = r.secrets(t)
	process.Guard(r.opt.Run)
	ended, err := r.attempts(ctx, t, log, out, res, h)
	if errors.Is(err, errMoved) && n.tries < maxTries {
		n.tries++
		r.refresh(ctx)
		return event{n: n, again: true}
	}
	if err != nil {
		return r.unreadable(n, err)
	}
	res.LogText = log.Bytes()
	ev = r.conclude(ctx, n, before, out, ended, res, h)
	if v.reason == key.Faster && res.Outcome == Ran && res.Listing != v.listing {
		r.cameOutDifferent(t)
	}
	res.Took = r.Now().Sub(began)
	return ev
}

// refresh takes the files anew for the tasks that are still to be settled.
func (r *run) refresh(ctx context.Context) {
	if snap, err := r.Files.Snapshot(ctx); err == nil {
		r.snapMu.Lock()
		r.snap = snap
		r.snapMu.Unlock()
	}
}

func (r *run) snapshot() *files.Snapshot {
	r.snapMu.Lock()
	defer r.snapMu.Unlock()
	return r.snap
}

// seen is what a task reads, and the state of its project, at one moment.
type seen struct {
	taken
	project digest.Digest
	paths   []string
	snap    *files.Snapshot
}

// look matches and reads a task's files again, and takes the state of its
// whole project beside.
func (r *run) look(ctx context.Context, t *graph.Task) (seen, error) {
	snap, err := r.Files.Again(ctx, r.snapshot(), r.dirs(t)...)
	if err != nil {
		return seen{}, err
	}
	tk, err := r.ingredients(t, snap, r.listingOf)
	if err != nil {
		return seen{}, err
	}
	paths := slices.DeleteFunc(slices.Clone(snap.Tree.Project(t.Project)), t.OpensFile)
	return seen{tk, r.Files.Memory.Fingerprint(paths), paths, snap}, nil
}

// dirs returns the directories that hold all that the task may read; none
// stands for the whole repository.
func (r *run) dirs(t *graph.Task) []string {
	out := []string{t.Project.Dir}
	if t.NeedsRead() {
		for _, p := range t.Project.NeedsAll {
			out = append(out, p.Dir)
		}
	}
	for _, read := range t.Reads {
		if read.Scope == decl.Root && !read.Negated {
			out = append(out, read.Pattern.LiteralStart())
		}
	}
	for _, d := range out {
		if d == "" || d == "." {
			return nil
		}
	}
	return out
}

// brought is a task whose outputs came onto the disk after it was settled,
// because another that has to run reads them.
type brought struct {
	n     *node
	moved int64 // bytes that had to be fetched
	took  time.Duration
}

// bringUpstream puts onto the disk every listing that the task counts. Gone is
// a task before it whose outputs are nowhere to be had.
func (r *run) bringUpstream(ctx context.Context, t *graph.Task) (came []brought, gone *node, err error) {
	for _, u := range t.KeyDependencies() {
		b, err := r.onDisk(ctx, r.of[u])
		if errors.Is(err, protocol.ErrGone) || errors.Is(err, protocol.ErrDown) || errors.Is(err, checkout.ErrRefused) {
			return came, r.of[u], nil
		}
		if err != nil {
			return came, nil, err
		}
		if b != nil {
			came = append(came, *b)
		}
	}
	return came, nil, nil
}

func (r *run) onDisk(ctx context.Context, n *node) (*brought, error) {
	n.place.mu.Lock()
	defer n.place.mu.Unlock()
	if n.place.onDisk || !n.place.set {
		return nil, nil
	}
	began := r.Now()
	moved, err := r.bring(ctx, n.task, n.place.list)
	if err != nil {
		return nil, err
	}
	n.place.onDisk = true
	return &brought{n, moved, r.Now().Sub(began)}, nil
}

// environment is what a command gets: fixed variables, a few of the person's
// own, and those declared.
func (r *run) environment(declared []decl.EnvVar) []string {
	env := decl.FixedEnv()
	for _, name := range passedOn {
		if val, ok := lookupEnv(r.Env, name); ok {
			env = append(env, name+"="+val)
		}
	}
	for _, v := range declared {
		if val, ok := r.variable(v); ok {
			env = append(env, v.Name+"="+val)
		}
	}
	return env
}

func (r *run) command(t *graph.Task, log *tasklog.Log) process.Command {
	run, _ := t.Decl.Run.With(r.Graph.Repo, r.Graph.Chosen) // checked when the run began
	if r.picked[t] {
		run = run.WithArgs(r.opt.Args)
	}
	env := r.environment(slices.Concat(t.Env, t.EnvUnkeyed, t.Secrets))
	for _, name := range t.Settings {
		env = append(env, r.Graph.Repo.Settings[name].Var()+"="+r.Graph.Chosen[name])
	}
	return process.Command{
		Words: run.Words(), Dir: filepath.Join(r.State.Root, filepath.FromSlash(t.Project.Dir)),
		Env: env, Mark: r.opt.Run + "/" + t.Addr(), Timeout: t.Timeout, Grace: r.opt.Grace, Output: log, Kill: r.opt.Kill,
	}
}

// passedOn are the variables of the person's own environment that every task
// gets, unkeyed.
var passedOn = func() []string {
	names := []string{"PATH", "HOME", "TMPDIR"}
	if runtime.GOOS == "windows" {
		names = append(names, "SystemRoot", "USERPROFILE", "TEMP", "TMP", "LOCALAPPDATA", "APPDATA", "PATHEXT")
	}
	return names
}()

// conclude keeps what a task made, or says why not.
func (r *run) conclude(ctx context.Context, n *node, before seen, out *checkout.Outputs, ended process.Result, res *Result, h held) event {
	t := n.task
	res.Log = r.keepBytes(res.LogText)
	ing := r.keepParts(before.taken)
	rec := checkout.Record{
		Task: t.Addr(), Key: before.key, Ingredients: ing, Log: res.Log, Run: r.opt.Run, At: r.Now(), Took: res.Made,
	}
	res.Ingredients = ing
	list, rooted, keepErr := listing.List(nil), []string(nil), error(nil)
	if t.WritesGiven() {
		list, rooted, keepErr = r.keepOutputs(ctx, out, h, res)
		if keepErr == nil {
			keepErr = r.writtenByOthers(t, list)
		}
		rec.Listing = r.keepBytes(list.Encode())
	}
	if err := out.PutBack(); err != nil && keepErr == nil {
		keepErr = err
	}
	r.sayFull(keepErr)
	h.audit(res, before)
	if !ended.OK() {
		res.Outcome, res.Message = Failed, ended.String()+h.hint(ended)
		if ended.Stopped {
			res.Outcome, res.Message = Stopped, ""
		}
		rec.Failed = true
		r.noteDown(rec)
		return event{n: n, result: res}
	}
	res.Outcome, res.Listing, rec.Here = Ran, rec.Listing, res.Made
	place := &placedAt{list, true, nil}
	refused := ""
	if t.WritesGiven() && t.Reuse != decl.Never && t.WithoutWrites() == nil { // else nothing of it is kept anyway
		refused = r.notKept(ctx, t, before, keepErr)
		if refused == "" && len(res.Drift) > 0 {
			refused = wrongOnes(res.Drift)
		}
	} else if keepErr != nil {
		refused = "not kept: " + keepErr.Error()
	}
	res.Message = joined(res.Message, refused)
	if refused != "" || !t.WritesGiven() {
		rec.Key = digest.Digest{}
		r.noteDown(rec)
		return event{n: n, result: res, place: place}
	}
	r.noteDown(rec)
	if t.Reuse != decl.Never && t.WithoutWrites() == nil {
		r.keepEntry(n, before, rec, list, rooted, res)
	}
	return event{n: n, result: res, place: place}
}

func joined(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}

// writtenByOthers finds files that another task writes as well: the patterns of
// both were taken not to meet, and they did.
func (r *run) writtenByOthers(t *graph.Task, list listing.List) error {
	for _, u := range t.Project.Tasks {
		for _, row := range list {
			if name := path.Join(t.Project.Dir, row.Path); u != t && u.WritesFile(name) {
				return fmt.Errorf("%s is written by %s as well: let each file be written by one task only", name, u.Addr())
			}
		}
	}
	return nil
}

// notKept says why a result stands but must not be used again, or nothing.
func (r *run) notKept(ctx context.Context, t *graph.Task, before seen, keepErr error) string {
	if keepErr != nil {
		return "not kept: " + keepErr.Error()
	}
	after, err := r.look(ctx, t)
	switch {
	case err != nil:
		return "not kept: " + err.Error()
	case after.key != before.key:
		return "not kept: what it reads changed while it ran" + difference(before.paths, after.paths)
	case after.project != before.project && t.Isolation != decl.Sealed: // which cannot have been it
		return "not kept: files of its project changed while it ran, outside of what any task writes" + difference(before.paths, after.paths)
	}
	return ""
}

func difference(before, after []string) string {
	var out []string
	for _, p := range after {
		if _, ok := slices.BinarySearch(before, p); !ok {
			out = append(out, p+" is new")
		}
	}
	for _, p := range before {
		if _, ok := slices.BinarySearch(after, p); !ok {
			out = append(out, p+" is gone")
		}
	}
	if len(out) == 0 {
		return ""
	}
	if len(out) > 3 {
		out = append(out[:2], fmt.Sprintf("and %d more", len(out)-2))
	}
	return " (" + strings.Join(out, ", ") + ")"
}

func (r *run) noteDown(rec checkout.Record) {
	if err := r.State.Note(rec); err != nil {
		r.Observer.Warn(err.Error())
	}
}

func (r *run) keepBytes(b []byte) digest.Digest {
	d, err := r.Store.Put(b)
	if err != nil {
		if !r.sayFull(err) {
			r.Observer.Warn("this machine's cache: " + err.Error())
		}
		return digest.Digest{}
	}
	return d
}

// sayFull says, once, that the disk is full, if that is what an error says.
func (r *run) sayFull(err error) bool {
	if !errors.Is(err, syscall.ENOSPC) {
		return false
	}
	r.sayOnce("full", "the disk is full: "+err.Error()+"; what is made is not kept. grayloft cache trim makes room in this machine's cache")
	return true
}

// keepParts files the ingredients and all that they refer to.
func (r *run) keepParts(tk taken) digest.Digest {
	for _, text := range tk.parts.All() {
		r.keepBytes(text)
	}
	return r.keepBytes(tk.in.Encode())
}

// keepEntry files an entry in this machine's cache, and hands it to be shared.
func (r *run) keepEntry(n *node, before seen, rec checkout.Record, list listing.List, rooted []string, res *Result) {
	maker := r.Maker()
	if r.self.Name != "" {
		maker.Name = r.self.Name // the token says who this is
	}
	maker.At, maker.Run = r.Now().UTC().Truncate(time.Millisecond), r.opt.Run
	e := protocol.Entry{
		Key: before.key, Task: n.task.Addr(), Listing: rec.Listing, Log: rec.Log, Ingredients: rec.Ingredients,
		Seconds: res.Made, Bytes: list.Bytes(), MadeBy: maker, CheckoutPaths: rooted,
	}
	for d := range before.parts.All() {
		e.Refs = append(e.Refs, d)
	}
	slices.SortFunc(e.Refs, func(a, b digest.Digest) int { return strings.Compare(a.String(), b.String()) })
	if e.Listing.IsZero() || e.Ingredients.IsZero() {
		return // this machine's cache could not take it, and has said so
	}
	if len(rooted) > 0 {
		r.Observer.Warn(fmt.Sprintf("%s: %s holds the path of this checkout, and would say the same elsewhere: strip paths when making it (Go: -trimpath)",
			n.task.Addr(), rooted[0]))
	}
	if _, err := r.Store.PutEntry(e, r.ownOrigin()); err != nil && !r.sayFull(err) {
		r.Observer.Warn("this machine's cache: " + err.Error())
	}
	if res.secret != "" {
		r.Observer.Warn(fmt.Sprintf("%s: %s contains the value of a secret, so it stays on this machine", n.task.Addr(), res.secret))
		return
	}
	if res.unheld != "" {
		r.sayUnheld(res.unheld)
		return
	}
	if r.Shared == nil || r.self.WritesTo == "" || !shareable(n.task) || (len(rooted) > 0 && r.Graph.Repo.CheckoutPathsLocal) {
		return
	}
	e.EarlyKey = r.ask.earlyKeys()[n.task]
	r.uploads.add(e, list)
}
