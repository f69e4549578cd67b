package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
)

// reference is a state of a task that another is compared with.
type reference struct {
	Label   string // for people
	Run     string
	At      time.Time
	Key     digest.Digest
	Listing digest.Digest
	Commit  string // of the checkout at that time, if known
	in      *key.Ingredients
}

// past finds the ingredients of earlier results: in this checkout's journal and
// history, in this machine's cache, and on the service.
type past struct {
	a      *app
	ctx    context.Context
	e      *engine.Engine
	client *remote.Client // nil: no service
	runs   []checkout.PastRun
}

func (a *app) openPast(ctx context.Context, e *engine.Engine, client *remote.Client) (*past, error) {
	runs, err := e.State.History()
	return &past{a, ctx, e, client, runs}, err
}

// read returns a blob, from this machine or from the service.
func (p *past) read(d digest.Digest) ([]byte, error) {
	text, err := p.e.Store.Read(d)
	if err == nil || p.client == nil {
		return text, err
	}
	if _, err := p.client.Fetch(p.ctx, []protocol.Blob{{Digest: d, Size: -1}}); err != nil {
		return nil, err
	}
	return p.e.Store.Read(d)
}

func (p *past) ingredients(ref reference, d digest.Digest) (reference, error) {
	if d.IsZero() {
		return ref, errors.New("its ingredients were not kept")
	}
	text, err := p.read(d)
	if err != nil {
		return ref, fmt.Errorf("its ingredients are no longer available: %w", err)
	}
	ref.in, err = key.Decode(text)
	return ref, err
}

// last returns the state of the task's last result here.
func (p *past) last(task string) (reference, error) {
	rec, ok := p.e.State.Last(task)
	if !ok {
		return reference{}, exit{exitFailed, fmt.Sprintf("grayloft: %s has no result in this checkout to compare with; --against takes a run, a key, a place or a person", task)}
	}
	ref := reference{Label: "the last result here", Run: rec.Run, At: rec.At, Key: rec.Key, Listing: rec.Listing}
	for _, run := range p.runs {
		if run.ID == rec.Run {
			ref.Commit = run.Commit
		}
	}
	return p.ingredients(ref, rec.Ingredients)
}

// find returns the state of the task that a person refers to: by a run, the
// start of a key, a place, or who made it.
func (p *past) find(task, of string) (reference, error) {
	if of == "" {
		return p.last(task)
	}
	if ref, ok, err := p.local(task, of); ok || err != nil {
		return ref, err
	}
	if p.client == nil {
		return reference{}, exit{exitFailed, fmt.Sprintf("grayloft: no run of this checkout and no key of %s here starts with %q; places and people can be named if there is a service (grayloft login, or GRAYLOFT_TOKEN; and not --offline)", task, of)}
	}
	return p.shared(task, of)
}

// local looks in the history of this checkout. If the task was current in a
// run, the run that made it is used.
func (p *past) local(task, of string) (reference, bool, error) {
	want := strings.ToLower(of)
	begun := false
	for _, run := range p.runs {
		x, has := run.Of(task)
		begun = begun || strings.HasPrefix(run.ID, want)
		if !has || (!begun && !strings.HasPrefix(x.Key.String(), want)) {
			continue
		}
		ref := reference{Label: "an earlier run here", Run: run.ID, At: run.At, Key: x.Key, Listing: x.Listing, Commit: run.Commit}
		ref, err := p.ingredients(ref, x.Ingredients)
		return ref, true, err
	}
	return reference{}, false, nil
}

func (p *past) shared(task, of string) (reference, error) {
	list, err := p.client.Entries(p.ctx, task, of, 1)
	if err == nil && len(list) == 0 {
		var run protocol.RunDetail
		if run, err = p.client.Run(p.ctx, of); err == nil {
			for _, rec := range run.Records {
				if rec.Task == task {
					list, err = p.client.Entries(p.ctx, task, rec.Key.String(), 1)
				}
			}
		} else {
			err = nil // it is not the id of a run either
		}
	}
	if err != nil {
		return reference{}, exit{exitFailed, "grayloft: asking the service: " + err.Error()}
	}
	if len(list) == 0 {
		return reference{}, exit{exitFailed, fmt.Sprintf("grayloft: the service has no entry of %s that matches %q: name a run, the start of a key, a place or a person", task, of)}
	}
	e := list[0]
	ref := reference{
		Label: fmt.Sprintf("built by %s at %s", e.MadeBy.Name, e.MadeBy.Place), Run: e.MadeBy.Run, At: e.MadeBy.At, Key: e.Key, Listing: e.Listing,
	}
	if run, err := p.client.Run(p.ctx, e.MadeBy.Run); err == nil {
		ref.Commit = run.Commit
	}
	return p.ingredients(ref, e.Ingredients)
}
