package engine

import (
	"context"
	"fmt"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/isolate"
	"grayloft.example/grayloft/internal/machine/process"
)

// Drift is where a task's declaration and what it does part.
type Drift struct {
	Task     *graph.Task
	Findings []drift.Finding
	Failed   string // how it failed; what it opened up to then is compared all the same
	Log      []byte // of a failed one
}

// Drift settles what the picked tasks come after, runs each of them in the
// checkout while what it opens is watched, whatever its isolation, and compares
// that with what it declares. Nothing is kept. It fails where there is no means
// to watch with.
func (e *Engine) Drift(ctx context.Context, opt Options) (out []Drift, sum *Summary, err error) {
	sum, err = e.apart(ctx, opt, func(r *run, t *graph.Task) error {
		d, err := r.drift(ctx, t)
		out = append(out, d)
		return err
	})
	return out, sum, err
}

// apart settles what the picked tasks come after, and then calls do for each of
// them, one after the other. What they come after may fail: then do is not
// called.
func (e *Engine) apart(ctx context.Context, opt Options, do func(*run, *graph.Task) error) (*Summary, error) {
	tasks := opt.Picked
	opt.Picked = nil
	for _, t := range tasks {
		opt.Picked = append(opt.Picked, t.Ancestors()...)
	}
	r := e.newRun(opt)
	end, err := e.State.Begin(opt.Run, func(run string) { process.EndRun(run) })
	if err != nil {
		return nil, err
	}
	defer end()
	sum, err := r.all(ctx)
	if err != nil || !sum.OK() {
		return sum, err
	}
	defer process.Unguard()
	process.Guard(opt.Run)
	for _, t := range tasks {
		if err := do(r, t); err != nil {
			return sum, fmt.Errorf("%s: %w", t.Addr(), err)
		}
	}
	return sum, nil
}

func (r *run) drift(ctx context.Context, t *graph.Task) (Drift, error) {
	d := Drift{Task: t}
	unlock, _, err := r.State.Lock(ctx, t.Addr())
	if err != nil {
		return d, err
	}
	defer unlock()
	for _, u := range t.KeyDependencies() {
		if _, err := r.onDisk(ctx, r.of[u]); err != nil {
			return d, err
		}
	}
	release, err := r.lockNames(ctx, t)
	if err != nil {
		return d, err
	}
	defer release()
	snap, err := r.Files.Again(ctx, r.snapshot(), r.dirs(t)...)
	if err != nil {
		return d, err
	}
	last, _ := r.lastListing(t)
	out := r.outputs(t)
	if err := out.Clear(ctx, last); err != nil {
		return d, err
	}
	log := tasklog.New(r.Now, func(line string) { r.Observer.Line(t, line) })
	log.Mask = r.secrets(t)
	c := r.command(t, log)
	w := &watched{r: r, task: t}
	w.dress(&c)
	ended := process.Run(ctx, c)
	if err := out.PutBack(); err != nil {
		return d, err
	}
	if ctx.Err() != nil {
		return d, ctx.Err()
	}
	if w.err != nil {
		return d, fmt.Errorf("what it opens cannot be watched: %w", w.err)
	}
	if !ended.OK() {
		d.Failed, d.Log = ended.String(), log.Bytes()
	}
	d.Findings = append(w.findings(snap.Rows(t)), r.idle(t)...)
	return d, nil
}

// idle finds patterns that match nothing that is there.
func (r *run) idle(t *graph.Task) []drift.Finding {
	var out []drift.Finding
	paths := r.snapshot().Paths()
	for _, read := range t.Reads {
		if read.Negated || read.Scope == decl.Needs {
			continue
		}
		found := false
		for _, p := range paths {
			name := p
			if read.Scope == decl.Own {
				if r.Graph.Owner(p) != t.Project {
					continue
				}
				name = t.Project.Rel(p)
			}
			if found = read.Pattern.Match(name); found {
				break
			}
		}
		if !found {
			out = append(out, drift.Finding{Key: "reads", Line: fmt.Sprintf("%q", read.Item.Text), At: read.Item.Pos.At(),
				Why: fmt.Sprintf("nothing that is there matches %q", read.Item.Text)})
		}
	}
	return out
}

// Watching returns why what tasks open cannot be watched on this machine, or
// nil.
func Watching() error { return isolate.CanTrace() }
