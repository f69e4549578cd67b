package inspect

import (
	"context"
	"slices"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/machine/checkout"
)

const (
	explained     = 100 // tasks of a plan that are compared with results of others, at most
	explainAtOnce = 8
)

// Explain says why tasks would run that have no result in this checkout: it compares them
// with the newest result that the service has of each. A service that does not answer leaves
// them as they are.
func (p *Preview) Explain(ctx context.Context, a *Archive) {
	if a.Service == nil {
		return
	}
	var all errgroup.Group
	all.SetLimit(explainAtOnce)
	n := 0
	for _, x := range p.Tasks {
		if !x.Runs() || x.Compared != nil || x.Reason != key.New || x.Taken == nil || n == explained {
			continue
		}
		n++
		all.Go(func() error { return x.explain(ctx, a) })
	}
	_ = all.Wait()
	p.estimate()
}

func (x *Expected) explain(ctx context.Context, a *Archive) error {
	list, err := a.Service.Entries(ctx, x.Task.Addr(), "", 1)
	if err != nil || len(list) == 0 {
		return err
	}
	e := list[0]
	before, err := a.ingredients(ctx, e.Ingredients)
	if err != nil {
		return err
	}
	changes := key.Compare(before, x.Taken, func(d digest.Digest) ([]byte, error) {
		if text, err := x.Parts(d); err == nil {
			return text, nil
		}
		return a.Read(ctx, d)
	})
	changes = slices.DeleteFunc(changes, func(c key.Change) bool {
		return c.Reason == key.Upstream && slices.ContainsFunc(x.On, func(u *graph.Task) bool { return u.Addr() == c.What })
	})
	reason, first := key.First(changes)
	switch {
	case reason != "":
		x.Reason, x.Changes = reason, first
	case len(x.On) > 0:
		x.Reason, x.Changes = key.Upstream, nil
	default:
		return nil // the same inputs: its result is there, and cannot be used
	}
	x.Compared = &checkout.Record{
		Task:        x.Task.Addr(),
		Key:         e.Key,
		Ingredients: e.Ingredients,
		Listing:     e.Listing,
		Run:         e.MadeBy.Run,
		At:          e.MadeBy.At,
	}
	if x.Seconds == 0 {
		x.Seconds = e.Seconds
	}
	return nil
}
