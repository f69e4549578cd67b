package inspect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
)

// Service is what earlier results are asked of, beyond this machine.
type Service interface {
	Entries(ctx context.Context, task, of string, limit int) ([]protocol.Entry, error)
	Run(ctx context.Context, id string) (protocol.RunDetail, error)
	Lookup(ctx context.Context, tasks []protocol.Query) ([]protocol.Entry, error)
	Fetch(ctx context.Context, blobs []protocol.Blob) (int64, error)
}

// Archive finds the ingredients of earlier results: in this checkout's journal
// and history, in this machine's cache, and on the service.
type Archive struct {
	State   *checkout.State
	Store   *store.Store
	Runs    []checkout.PastRun // of this checkout, the newest first
	Service Service            // nil: no service
}

// UnknownError says that nothing is known by the name that was given.
type UnknownError struct{ Message string }

func (e *UnknownError) Error() string { return "grayloft: " + e.Message }

// ServiceError is an error of asking the service for what this checkout does not have.
type ServiceError struct {
	Lacks string // what it does not have, as the beginning of a sentence
	Err   error
}

func (e *ServiceError) Error() string {
	return e.Lacks + ", and asking the service fails: " + e.Err.Error()
}

func (e *ServiceError) Unwrap() error { return e.Err }

// Reference is an earlier state of a task that another is compared with.
type Reference struct {
	Label       string // for people
	Run         string
	At          time.Time
	Key         digest.Digest
	Listing     digest.Digest
	Commit      string // of the checkout at that time, if known
	Ingredients *key.Ingredients
}

// Read returns a blob, from this machine or from the service.
func (a *Archive) Read(ctx context.Context, d digest.Digest) ([]byte, error) {
	text, err := a.Store.Read(d)
	if err == nil || a.Service == nil {
		return text, err
	}
	if _, err := a.Service.Fetch(ctx, []protocol.Blob{{Digest: d, Size: -1}}); err != nil {
		return nil, err
	}
	return a.Store.Read(d)
}

// Reader returns [Archive.Read] for one context.
func (a *Archive) Reader(ctx context.Context) func(digest.Digest) ([]byte, error) {
	return func(d digest.Digest) ([]byte, error) { return a.Read(ctx, d) }
}

// Find returns the state of the task that a person refers to: by a run, the
// start of a key, a place, or who built it; by "" the last result here. Errors
// are an [*UnknownError] or a [*ServiceError], or wrap [ErrForgotten].
func (a *Archive) Find(ctx context.Context, task, of string) (Reference, error) {
	if of == "" {
		return a.last(ctx, task)
	}
	if ref, ok, err := a.here(ctx, task, of); ok || err != nil {
		return ref, err
	}
	if a.Service == nil {
		return Reference{}, &UnknownError{
			fmt.Sprintf(
				"no run of this checkout and no key of %s here starts with %q; places and people can "+
					"be named if there is a service (grayloft login, or GRAYLOFT_TOKEN; and not --offline)",
				task,
				of,
			),
		}
	}
	return a.shared(ctx, task, of)
}

// last returns the state of the task's last result here.
func (a *Archive) last(ctx context.Context, task string) (Reference, error) {
	rec, ok := a.State.Last(task)
	if !ok {
		return Reference{}, &UnknownError{
			fmt.Sprintf("%s has no result in this checkout to compare with; --against takes a run, a key, a place or a person", task),
		}
	}
	ref := Reference{Label: "the last result here", Run: rec.Run, At: rec.At, Key: rec.Key, Listing: rec.Listing}
	for _, run := range a.Runs {
		if run.ID == rec.Run {
			ref.Commit = run.Commit
		}
	}
	return a.complete(ctx, ref, rec.Ingredients)
}

// here looks in the history of this checkout. If the task was current in a run,
// the run that made it is used.
func (a *Archive) here(ctx context.Context, task, of string) (Reference, bool, error) {
	want := strings.ToLower(of)
	reached := false
	for _, run := range a.Runs {
		x, has := run.Of(task)
		reached = reached || strings.HasPrefix(run.ID, want)
		if !has || (!reached && !strings.HasPrefix(x.Key.String(), want)) {
			continue
		}
		ref := Reference{Label: "an earlier run here", Run: run.ID, At: run.At, Key: x.Key, Listing: x.Listing, Commit: run.Commit}
		ref, err := a.complete(ctx, ref, x.Ingredients)
		return ref, true, err
	}
	return Reference{}, false, nil
}

func (a *Archive) shared(ctx context.Context, task, of string) (Reference, error) {
	list, err := a.Service.Entries(ctx, task, of, 1)
	if err == nil && len(list) == 0 {
		list, err = a.ofRun(ctx, task, of)
	}
	if err != nil {
		return Reference{}, &ServiceError{fmt.Sprintf("no run of this checkout and no key of %s here starts with %q", task, of), err}
	}
	if len(list) == 0 {
		return Reference{}, &UnknownError{
			fmt.Sprintf("the service has no entry of %s that matches %q: name a run, the start of a key, a place or a person", task, of),
		}
	}
	e := list[0]
	ref := Reference{
		Label: fmt.Sprintf(
			"built by %s at %s",
			e.MadeBy.Name,
			e.MadeBy.Place,
		), Run: e.MadeBy.Run, At: e.MadeBy.At, Key: e.Key, Listing: e.Listing,
	}
	if run, err := a.Service.Run(ctx, e.MadeBy.Run); err == nil {
		ref.Commit = run.Commit
	}
	return a.complete(ctx, ref, e.Ingredients)
}

// ofRun returns the entry that a task had in a run of the service; nothing if
// there is no such run.
func (a *Archive) ofRun(ctx context.Context, task, id string) ([]protocol.Entry, error) {
	run, err := a.Service.Run(ctx, id)
	if err != nil {
		return nil, nil //nolint:nilerr // it is not the id of a run
	}
	for _, rec := range run.Records {
		if rec.Task == task {
			return a.Service.Entries(ctx, task, rec.Key.String(), 1)
		}
	}
	return nil, nil
}

func (a *Archive) complete(ctx context.Context, ref Reference, d digest.Digest) (Reference, error) {
	var err error
	if ref.Ingredients, err = a.ingredients(ctx, d); err != nil {
		err = fmt.Errorf("run %s: %w", ref.Run, err)
	}
	return ref, err
}

func (a *Archive) ingredients(ctx context.Context, d digest.Digest) (*key.Ingredients, error) {
	if d.IsZero() {
		return nil, ErrForgotten
	}
	text, err := a.Read(ctx, d)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, protocol.ErrGone):
		return nil, ErrForgotten
	case err != nil:
		return nil, fmt.Errorf("what it was made from cannot be read: %w", err)
	}
	return key.Decode(text)
}

// ErrForgotten says that nothing can be compared with a result: what it was made from is neither
// in this machine's cache nor, if it was asked, at the service.
var ErrForgotten = errors.New("what the task was made from is no longer in the cache")
