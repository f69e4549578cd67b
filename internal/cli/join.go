package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/term"
)

// joins makes the run a member of the run of several machines that the person named, and
// returns its name; empty: the run goes on alone.
func (a *app) joins(ctx context.Context, s *session, f runFlags, opt engine.Options) (string, error) {
	switch {
	case f.join == "":
		return "", nil
	case f.part != "":
		return "", wrong("--join and --part both divide the tasks: give one of them")
	case f.noReuse:
		return "", wrong("--join shares results among its members, so it cannot be combined with --no-reuse")
	case s.client == nil:
		return "", wrong("--join needs a service: grayloft login URL, or GRAYLOFT_SERVICE and GRAYLOFT_TOKEN")
	}
	if t := unjoinable(s.graph.Closure(opt.Picked)); t != nil {
		return "", wrong("%s has reuse = \"never\" and writes files, which only one member of --join would have: leave it out, "+
			"or run it after the others", t.Addr())
	}
	s.client.Insist()
	plan, err := planOf(s, opt)
	if err != nil {
		return "", err
	}
	joined, err := s.client.Join(ctx, protocol.JoinHello{ID: f.join, Plan: plan, Run: opt.Run})
	switch {
	case err == nil:
		if joined.Elsewhere != "" {
			fmt.Fprintf(a.Err, "warning: there is a join %s on the shelf %s as well; this run writes to another shelf, "+
				"so it takes no part in that one: give all machines tokens that write to one shelf\n", f.join, joined.Elsewhere)
		}
		return f.join, nil
	case ctx.Err() != nil:
		return "", errInterrupted
	case errors.Is(err, protocol.ErrGone), remote.IsRefusal(err):
		return "", a.serviceRefused(err)
	}
	fmt.Fprintf(
		a.Err,
		"warning: the service %s: this machine goes on alone, without the other members of %s\n",
		remote.Explain(err),
		f.join,
	)
	return "", nil
}

// unjoinable returns a task that must not run twice and whose files others would need.
func unjoinable(tasks []*graph.Task) *graph.Task {
	i := slices.IndexFunc(tasks, func(t *graph.Task) bool {
		return t.Reuse == decl.Never && (!t.WritesGiven() || len(t.Writes) > 0)
	})
	if i < 0 {
		return nil
	}
	return tasks[i]
}

// planOf identifies what the members of a run have to agree on before it starts: the commit,
// the tasks, the settings and the arguments. Other differences show as different keys.
func planOf(s *session, opt engine.Options) (digest.Digest, error) {
	commit, _ := s.head()
	h := digest.New()
	fmt.Fprintf(h, "join 1\n%q\n%q\n%q\n", commit, opt.Args, slices.Sorted(slices.Values(term.Addresses(opt.Picked))))
	var settings []string
	for name, value := range s.graph.Chosen {
		settings = append(settings, name+"="+value)
	}
	slices.Sort(settings)
	_, err := fmt.Fprintf(h, "%q\n", strings.Join(settings, "\n"))
	return digest.From(h), err
}
