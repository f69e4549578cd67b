package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/schedule"
	"grayloft.example/grayloft/internal/remote"
)

// maxParts limits how many runners share a run.
const maxParts = 1000

// partOf reads "2/5".
func partOf(text string) (which, of int, err error) {
	a, b, ok := strings.Cut(text, "/")
	which, errA := strconv.Atoi(a)
	of, errB := strconv.Atoi(b)
	if !ok || errA != nil || errB != nil || which < 1 || which > of || of > maxParts {
		return 0, 0, exit{exitWrong, fmt.Sprintf("grayloft: --part %q is not valid: write it like 2/5, the second of five", text)}
	}
	return which, of, nil
}

// part returns this runner's share of the picked tasks. All runners must divide
// in the same way, so they get the durations of tasks from the service; without
// a service, every task counts the same.
func (a *app) part(ctx context.Context, r *repository, client *remote.Client, f runFlags, picked []*graph.Task) ([]*graph.Task, error) {
	which, of, err := partOf(f.part)
	if err != nil {
		return nil, err
	}
	seconds := map[string]float64{}
	if client != nil {
		var names []string
		for _, t := range r.graph.Closure(picked) {
			names = append(names, t.Addr())
		}
		seconds, err = client.Parts(ctx, a.under(ctx, r, picked, of), names)
		if err != nil {
			return nil, exit{exitFailed, fmt.Sprintf("grayloft: --part: the runners agree through the service who runs what, but the service cannot be asked: %v.\n"+
				"Give all of them --offline to divide by the number of tasks instead, or run without --part.", err)}
		}
	}
	parts := schedule.Parts(picked, of, func(t *graph.Task) (float64, bool) {
		s, ok := seconds[t.Addr()]
		return s, ok
	})
	return parts[which-1], nil
}

// under returns a digest of what is divided: these tasks, of this commit, into
// so many parts.
func (a *app) under(ctx context.Context, r *repository, picked []*graph.Task, of int) digest.Digest {
	h := digest.New()
	commit, _ := r.git.Head(ctx)
	fmt.Fprintf(h, "parts %d of %q\n", of, commit)
	var names []string
	for _, t := range picked {
		names = append(names, t.Addr())
	}
	slices.Sort(names)
	for _, n := range names {
		fmt.Fprintf(h, "%q\n", n)
	}
	return digest.From(h)
}
