// Package keep keeps the results of tasks that ran: outputs, logs and
// ingredients in this machine's cache, the outcome in the checkout's journal.
// It decides whether a result may be cached and shared, and says why not.
package keep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/execute"
	"grayloft.example/grayloft/internal/machine/look"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

// Keeper keeps results. It is safe for concurrent use.
type Keeper struct {
	Work     *outputs.Workspace
	Look     *look.Looker
	Probes   Probes
	Identity Identity
	Notices  Notices
	Now      func() time.Time
}

// Probes tell whether probes of a task may have another answer than when the run asked them.
type Probes interface {
	Changed(ctx context.Context, t *graph.Task) string
}

// Identity says who makes the entries of this run.
type Identity struct {
	Origin store.Origin
	Maker  func() protocol.Maker
	Name   string // of the token; "" without a service
}

// Notices receive sentences for the person.
type Notices struct {
	Warn     func(sentence string)
	WarnOnce func(about, sentence string) // at most one sentence about each subject
}

// Made is a task that ran.
type Made struct {
	Task   *graph.Task
	Before look.Seen // its files when it started
	Run    execute.Result
	Unkept string          // address of a dependency whose outputs could not be kept; "" if there is none
	Again  bool            // it ran because of --no-reuse: earlier results with other outputs are withdrawn
	Last   checkout.Record // of the result before
	// Upstream says which outputs of dependencies changed since the task started; nil: it sees copies.
	Upstream func() string
}

// Kept is what became of a result.
type Kept struct {
	Outcome decide.Outcome // Ran, Failed or Stopped
	Message string         // for people: how it failed, or why it was not cached
	Record  checkout.Record
	List    listing.List
	Cases   []junit.Case    // of its reports
	Share   *protocol.Entry // the entry, if it may be shared
	Unkept  string          // why nobody knows what its outputs are; "" if they were kept
	Refused bool            // it could have been cached, and is not
	// Evidence are the blobs that say what a failed task was made from.
	Evidence []digest.Digest
}

// Keep keeps the result of a task, or says why not.
func (k *Keeper) Keep(ctx context.Context, m Made, of look.Outputs) Kept {
	t := m.Task
	k.mentionShortSecrets(t)
	out := Kept{Outcome: decide.Ran, Message: m.Run.Note, Record: k.record(m)}
	found, keepErr := k.outputs(ctx, m)
	out.Cases = k.reports(m)
	keepErr = cmp.Or(keepErr, k.Work.Outputs(t).PutBack())
	if t.WritesGiven() {
		k.list(&out, found, keepErr)
	}
	if !m.Run.Ended.OK() || errors.Is(keepErr, errNotPlaced) {
		k.failed(m, &out, keepErr)
		return out
	}
	if keepErr == nil {
		k.mentionNoOutputs(t, found.List)
	}
	out.Record.Here = m.Run.Seconds
	refused := k.refusal(ctx, m, of, keepErr)
	out.Message = join(out.Message, refused)
	if out.Refused = refused != "" && isCacheable(t); refused != "" || !isCacheable(t) {
		out.Record.Key = digest.Digest{} // it was not verified, so it is no last result
	}
	k.note(out.Record)
	if refused == "" && isCacheable(t) {
		k.mentionState(m, found.List)
		out.Share = k.entry(m, out, found)
	}
	return out
}

// list records the listing of what was kept. If that failed, there is none: an empty one would say
// that the task wrote nothing.
func (k *Keeper) list(out *Kept, found outputs.Kept, keepErr error) {
	k.isFull(keepErr)
	if keepErr == nil {
		if out.Record.Listing = k.bytes(found.Text); !out.Record.Listing.IsZero() {
			out.List = found.List
			return
		}
		keepErr = errNoListing
	}
	out.Unkept = keepErr.Error()
	out.Record.Unkept = out.Unkept
	out.Record.Left = k.bytes(found.Left.Encode())
}

var (
	errNoListing = errors.New("this machine's cache could not store their listing")
	// errNotPlaced is wrapped if the outputs of a sealed task are not in the checkout.
	errNotPlaced = errors.New("its outputs could not be put into the checkout")
)

// isCacheable tells whether results of the task are kept for reuse.
func isCacheable(t *graph.Task) bool { return t.Reuse != decl.Never && t.WithoutWrites() == nil }

func (k *Keeper) record(m Made) checkout.Record {
	for _, text := range m.Before.Parts.All() {
		k.bytes(text)
	}
	return checkout.Record{
		Task: m.Task.Addr(), Key: m.Before.Key, Ingredients: k.bytes(m.Before.In.Encode()), Log: k.bytes(m.Run.Log),
		Run: k.Work.Run, At: k.Now(), Took: m.Run.Seconds,
	}
}

func (k *Keeper) failed(m Made, out *Kept, keepErr error) {
	out.Outcome, out.Message = decide.Failed, m.Run.Ended.String()+m.Run.Hint
	switch {
	case m.Run.Ended.Stopped:
		out.Outcome, out.Message = decide.Stopped, ""
	case m.Run.Ended.OK():
		out.Message = keepErr.Error()
	}
	out.Record.Failed = true
	out.Evidence = append(partsOf(m), out.Record.Ingredients)
	k.note(out.Record)
}

// outputs copies the outputs of a task to the cache. Those of a sealed task are
// then put into the checkout. With an error, what was kept says only which files are the task's own.
func (k *Keeper) outputs(ctx context.Context, m Made) (kept outputs.Kept, err error) {
	if !m.Task.WritesGiven() {
		return outputs.Kept{}, nil
	}
	secrets := k.Look.Env.Secrets(m.Task)
	out := k.Work.Outputs(m.Task)
	staged := *out
	staged.Tree = m.Run.Tree
	if kept, err = staged.Keep(secrets); err == nil {
		err = writtenByOthers(m.Task, kept.List)
	}
	if m.Run.ConstantPath {
		kept.CheckoutPaths = nil // the path that they contain is the same everywhere
	}
	if err == nil && m.Run.Tree != "" {
		if err = out.Restore(ctx, kept.List, k.Work.OwnFiles(m.Task)); err != nil {
			err = fmt.Errorf("%w: %w", errNotPlaced, err)
		}
	}
	if err != nil {
		kept.Left = out.Now()
	}
	return kept, err
}

// reports reads the reports of a task, without secrets.
func (k *Keeper) reports(m Made) []junit.Case {
	if len(m.Task.Reports) == 0 {
		return nil
	}
	out := *k.Work.Outputs(m.Task)
	out.Tree = m.Run.Tree
	cases, problems := out.Reports()
	for _, err := range problems {
		k.Notices.Warn(m.Task.Addr() + ": " + err.Error())
	}
	secrets := k.Look.Env.Secrets(m.Task)
	for i := range cases {
		cases[i].Name, cases[i].Message = tasklog.Mask(cases[i].Name, secrets), tasklog.Mask(cases[i].Message, secrets)
	}
	return cases
}

// reportBlob stores all test cases of a task as one JUnit XML document.
func (k *Keeper) reportBlob(m Made, cases []junit.Case) digest.Digest {
	if len(cases) == 0 {
		return digest.Digest{}
	}
	text, err := junit.Write(m.Task.Addr(), m.Run.Seconds, []junit.Suite{{
		Name: m.Task.Addr(), At: k.Now(), Took: m.Run.Seconds, Cases: cases,
	}})
	if err != nil {
		k.Notices.Warn(m.Task.Addr() + ": " + err.Error())
		return digest.Digest{}
	}
	return k.bytes(text)
}

// writtenByOthers finds files that match the writes of another task as well,
// although the patterns of the two seemed not to overlap.
func writtenByOthers(t *graph.Task, list listing.List) error {
	for _, u := range t.Project.Tasks {
		for _, row := range list {
			if name := path.Join(t.Project.Dir, row.Path); u != t && u.WritesFile(name) {
				return fmt.Errorf("%s is also an output of %s: let only one task write each file", name, u.Addr())
			}
		}
	}
	return nil
}

// refusal says why a valid result must not be reused; "" if it may.
func (k *Keeper) refusal(ctx context.Context, m Made, of look.Outputs, keepErr error) string {
	if keepErr != nil {
		return "its outputs could not be kept, so it runs again: " + keepErr.Error()
	}
	if m.Unkept != "" && isCacheable(m.Task) {
		return "not cached: the outputs of " + m.Unkept + " could not be kept"
	}
	if !m.Task.WritesGiven() || !isCacheable(m.Task) { // nothing of it is cached anyway
		return ""
	}
	why, err := k.Look.Since(ctx, m.Task, m.Before, of)
	if err != nil {
		return "not cached: " + err.Error()
	}
	if why == "" && m.Upstream != nil {
		why = m.Upstream()
	}
	if why == "" && len(m.Task.Decl.Probes.Items) > 0 {
		why = k.Probes.Changed(ctx, m.Task)
	}
	if why == "" {
		why = undeclaredLines(m.Run.Findings)
	}
	if why == "" {
		return ""
	}
	return "not cached: " + why
}

// undeclaredLines says that a traced task opened files that make reuse wrong.
func undeclaredLines(list []drift.Finding) string {
	n := 0
	for _, f := range list {
		if f.Wrong {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return "its declaration lacks " + amount.Count(n, "line", "lines")
}

// entry stores an entry in this machine's cache, and returns it if it may be
// shared.
func (k *Keeper) entry(m Made, kept Kept, found outputs.Kept) *protocol.Entry {
	e := k.newEntry(m, kept.Record, found)
	e.Reports = k.reportBlob(m, kept.Cases)
	if e.Listing.IsZero() || e.Ingredients.IsZero() {
		return nil // this machine's cache could not store them, and has warned
	}
	addr := m.Task.Addr()
	if len(found.CheckoutPaths) > 0 {
		k.Notices.Warn(fmt.Sprintf("%s: %s contains the path of this checkout, which is wrong in any other: strip paths when building "+
			"(Go: -trimpath, Rust: --remap-path-prefix)", addr, found.CheckoutPaths[0]))
	}
	shareable := k.mayLeave(m, found)
	origin := k.Identity.Origin
	if len(found.CheckoutPaths) > 0 && m.Task.Graph().Repo.CheckoutPathsLocal {
		origin.Checkout = k.Work.State.Root
	}
	if m.Again {
		k.withdrawOther(m, e, origin)
	}
	if _, err := k.Work.Store.PutMade(e, origin, shareable && m.Task.IsShareable()); err != nil {
		k.notStored(err)
	}
	if !shareable {
		return nil
	}
	e.Again = m.Again
	return &e
}

// withdrawOther withdraws results with the same key and other outputs: the person asked to run the task
// because of them.
func (k *Keeper) withdrawOther(m Made, e protocol.Entry, origin store.Origin) {
	var others []digest.Digest
	if have, ok := k.Work.Store.Entry(e.Key, origin); ok {
		others = append(others, have.Listing)
	}
	if m.Last.Key == e.Key && !m.Last.Failed {
		others = append(others, m.Last.Listing)
	}
	for _, list := range others {
		if list == e.Listing || list.IsZero() {
			continue
		}
		if err := k.Work.Store.Withdraw(e.Key, list); err != nil {
			k.notStored(err)
			return
		}
		k.Notices.WarnOnce("withdrawn "+e.Task, e.Task+" gave other outputs than its earlier result, which is not used any more on this "+
			"machine: something that it does not declare differs (grayloft reproduce shows what)")
	}
}

// mayLeave tells whether the contents and the circumstances of a result allow it
// to leave this machine, and warns if not.
func (k *Keeper) mayLeave(m Made, found outputs.Kept) bool {
	switch {
	case found.Secret != "":
		k.Notices.Warn(
			fmt.Sprintf("%s: %s contains the value of a secret, so the result stays on this machine", m.Task.Addr(), found.Secret),
		)
		return false
	case m.Run.Unshared != "":
		k.Notices.WarnOnce(m.Run.Unshared, m.Run.Unshared+"; its results stay on this machine")
		return false
	}
	return len(found.CheckoutPaths) == 0 || !m.Task.Graph().Repo.CheckoutPathsLocal
}

func (k *Keeper) newEntry(m Made, rec checkout.Record, found outputs.Kept) protocol.Entry {
	maker := k.Identity.Maker()
	if k.Identity.Name != "" {
		maker.Name = k.Identity.Name
	}
	maker.At, maker.Run = k.Now().UTC().Truncate(time.Millisecond), k.Work.Run
	e := protocol.Entry{
		Key: m.Before.Key, Task: m.Task.Addr(), Listing: rec.Listing, Log: rec.Log, Ingredients: rec.Ingredients,
		Seconds: m.Run.Seconds, Bytes: found.List.Bytes(), MadeBy: maker, CheckoutPaths: found.CheckoutPaths,
	}
	e.Refs = partsOf(m)
	return e
}

// partsOf returns the manifests that the ingredients of a task refer to, sorted.
func partsOf(m Made) (list []digest.Digest) {
	for d := range m.Before.Parts.All() {
		list = append(list, d)
	}
	slices.SortFunc(list, func(a, b digest.Digest) int { return strings.Compare(a.String(), b.String()) })
	return list
}

// bytes stores a blob; on an error it warns and returns the zero digest.
func (k *Keeper) bytes(b []byte) digest.Digest {
	d, err := k.Work.Store.Put(b)
	if err == nil {
		return d
	}
	k.notStored(err)
	return digest.Digest{}
}

// notStored warns, once, that this machine's cache does not take something.
func (k *Keeper) notStored(err error) {
	if k.isFull(err) {
		return
	}
	sentence := "this machine's cache: " + err.Error() + "; results are not cached"
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS) {
		sentence += ". Set GRAYLOFT_CACHE to a writable directory"
	}
	k.Notices.WarnOnce("this machine's cache", sentence)
}

// isFull tells whether an error means that the disk is full, and warns once.
func (k *Keeper) isFull(err error) bool {
	if !errors.Is(err, syscall.ENOSPC) {
		return false
	}
	k.Notices.WarnOnce(
		"full",
		"the disk is full: "+err.Error()+"; results are not cached. grayloft cache trim frees space in this machine's cache",
	)
	return true
}

func (k *Keeper) note(rec checkout.Record) {
	if err := k.Work.State.Note(rec); err != nil {
		k.Notices.Warn(err.Error())
	}
}

func join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}
