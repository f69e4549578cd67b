package inspect

import (
	"context"
	"fmt"
	"path"
	"slices"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/sandbox"
)

// Traced is how a task's declaration compares with what the task opens.
type Traced struct {
	Task     *graph.Task
	Findings []drift.Finding
	Failed   string // how the task failed; what it opened before is compared anyway
	Log      []byte // of a failed task
}

// CanTrace returns why tasks cannot be traced on this machine, or nil.
func CanTrace() error { return sandbox.CanTrace() }

// Drift settles the dependencies of the picked tasks, then runs each picked task
// in the checkout under a tracer, whatever its isolation, and compares what it
// opens with its declaration. Nothing is kept. It fails if tracing is
// impossible.
func Drift(ctx context.Context, e *engine.Engine, opt engine.Options) (out []Traced, sum *engine.Summary, err error) {
	sum, err = afterDependencies(ctx, e, opt, func(s *engine.Session, t *graph.Task) error {
		d, err := trace(ctx, s, t)
		out = append(out, d)
		return err
	})
	return out, sum, err
}

// afterDependencies settles the dependencies of the picked tasks, and then calls
// do for each picked task, one after another. If a dependency fails, do is not
// called.
func afterDependencies(
	ctx context.Context,
	e *engine.Engine,
	opt engine.Options,
	do func(*engine.Session, *graph.Task) error,
) (*engine.Summary, error) {
	tasks := opt.Picked
	opt.Picked = nil
	for _, t := range tasks {
		opt.Picked = append(opt.Picked, t.Ancestors()...)
	}
	return e.RunAnd(ctx, opt, func(s *engine.Session) error {
		for _, t := range tasks {
			if err := do(s, t); err != nil {
				return fmt.Errorf("%s: %w", t.Addr(), err)
			}
		}
		return nil
	})
}

func trace(ctx context.Context, s *engine.Session, t *graph.Task) (Traced, error) {
	d := Traced{Task: t}
	unlock, _, err := s.Delivery.Work.State.Lock(ctx, t.Addr())
	if err != nil {
		return d, err
	}
	defer unlock()
	for _, u := range t.KeyDependencies() {
		if out := s.Outputs.Get(u); out != nil && !out.OnDisk {
			if _, err := s.Delivery.Deliver(ctx, u, out.List); err != nil {
				return d, err
			}
		}
	}
	release, err := s.Execute.Lock(ctx, t)
	if err != nil {
		return d, err
	}
	defer release()
	before, err := s.Look.Again(ctx, t, s.Outputs)
	if err != nil {
		return d, err
	}
	last, _ := s.Delivery.Work.LastListing(t)
	out := s.Delivery.Work.Outputs(t)
	if err := out.Clear(ctx, last); err != nil {
		return d, err
	}
	w := &sandbox.Watch{Root: s.Delivery.Work.State.Root, Task: t, Env: s.Execute.Env}
	ended, log := runOnce(ctx, s, t, w.Dress)
	if err := out.PutBack(); err != nil {
		return d, err
	}
	if ctx.Err() != nil {
		return d, ctx.Err()
	}
	if w.Err != nil {
		return d, fmt.Errorf("the task cannot be traced: %w", w.Err)
	}
	if !ended.OK() {
		d.Failed, d.Log = ended.String(), log
	}
	empty, err := emptyPatterns(ctx, t, s.Look.Files, s.Look.Snapshot().Paths())
	d.Findings = append(w.Findings(before.Rows), empty...)
	return d, err
}

// runOnce runs the command of a task once, without retries.
func runOnce(ctx context.Context, s *engine.Session, t *graph.Task, dress func(*process.Command)) (process.Result, []byte) {
	log := tasklog.New(s.Execute.Now, func(line string) { s.Execute.Line(t, line) })
	log.Mask = s.Execute.Env.Secrets(t)
	c := s.Execute.Command(t, log)
	dress(&c)
	return process.Run(ctx, c), log.Bytes()
}

// emptyPatterns finds patterns of reads that match no file, without those that lead to what git
// ignores: it may be there at another time.
func emptyPatterns(ctx context.Context, t *graph.Task, checkout *files.Checkout, paths []string) (out []drift.Finding, err error) {
	empty := slices.DeleteFunc(slices.Clone(t.Reads), func(read decl.Read) bool {
		return read.Negated || read.Scope == decl.Needs || matchesAny(t, read, paths)
	})
	var starts []string
	for _, read := range empty {
		starts = append(starts, startOf(t, read))
	}
	ignored, err := checkout.Ignores(ctx, starts)
	for i, read := range empty {
		if ignored[starts[i]] {
			continue
		}
		out = append(out, drift.Finding{
			Key: "reads", Line: fmt.Sprintf("%q", read.Item.Text), At: read.Item.Pos.At(),
			Why: fmt.Sprintf("no file matches %q", read.Item.Text),
		})
	}
	return out, err
}

// startOf returns the path, from the root, at which a pattern starts.
func startOf(t *graph.Task, read decl.Read) string {
	if read.Scope == decl.Own {
		return path.Join(t.Project.Dir, read.Pattern.LiteralStart())
	}
	return read.Pattern.LiteralStart()
}

func matchesAny(t *graph.Task, read decl.Read, paths []string) bool {
	for _, p := range paths {
		name := p
		if read.Scope == decl.Own {
			if t.Graph().Owner(p) != t.Project {
				continue
			}
			name = t.Project.Rel(p)
		}
		if read.Pattern.Match(name) {
			return true
		}
	}
	return false
}
