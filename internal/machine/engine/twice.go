package engine

import (
	"context"
	"fmt"
	"time"

	"grayloft.example/grayloft/internal/core/drift"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/process"
)

// Twice is how two sealed runs of a task compare.
type Reproduction struct {
	Task    *graph.Task
	Outputs int                // how many the first made
	Differ  []drift.Difference // empty: none
	Failed  string             // how one of them failed; then nothing is compared
	Log     []byte             // of the one that failed
	Held    string             // what held them here, in words
}

// Twice brings what the tasks come after onto the disk, and then runs each of
// the picked tasks two times, sealed, in different directories and in different
// seconds, keeps nothing of it, and compares what came out.
func (e *Engine) Reproduce(ctx context.Context, opt Options) (out []Reproduction, sum *Summary, err error) {
	sum, err = e.apart(ctx, opt, func(r *run, t *graph.Task) error {
		tw, err := r.twice(ctx, t)
		out = append(out, tw)
		return err
	})
	return out, sum, err
}

func (r *run) twice(ctx context.Context, t *graph.Task) (Reproduction, error) {
	tw := Reproduction{Task: t}
	snap, err := r.Files.Again(ctx, r.snapshot(), r.dirs(t)...)
	if err != nil {
		return tw, err
	}
	if gone, err := r.haveUpstream(ctx, t); err != nil || gone != nil {
		return tw, fmt.Errorf("what %s made is not to be had: %w", gone.task.Addr(), err)
	}
	release, err := r.lockNames(ctx, t)
	if err != nil {
		return tw, err
	}
	defer release()
	var lists [2]listing.List
	for i, name := range []string{"one", "the-other"} {
		st := r.newStage(t, snap.Rows(t), name, true)
		able := st.able
		able.Place = false // two directories are the point
		tw.Held = able.String()
		began := r.Now()
		lists[i], err = r.once(ctx, st, &tw)
		if err != nil || tw.Failed != "" {
			return tw, err
		}
		if i == 0 { // what writes the time down does so by the second
			select {
			case <-ctx.Done():
				return tw, ctx.Err()
			case <-time.After(time.Until(began.Add(1100 * time.Millisecond))):
			}
		}
	}
	tw.Outputs = len(lists[0])
	tw.Differ, err = drift.Differ(lists[0], lists[1], func(row listing.Row) ([]byte, error) { return r.Store.Read(row.Digest) })
	return tw, err
}

// once runs the task in a stage and returns what it made.
func (r *run) once(ctx context.Context, st *stage, tw *Reproduction) (listing.List, error) {
	defer st.remove()
	st.task = withoutScratch(st.task)
	if err := st.fill(ctx); err != nil {
		return nil, err
	}
	log := tasklog.New(r.Now, func(line string) { r.Observer.Line(st.task, line) })
	log.Mask = r.secrets(st.task)
	c := r.command(st.task, log)
	st.dress(&c)
	ended := process.Run(ctx, c)
	if !ended.OK() {
		tw.Failed, tw.Log = ended.String()+held{stage: st}.hint(ended), log.Bytes()
		return nil, ctx.Err()
	}
	out := r.outputs(st.task)
	out.Tree = st.tree()
	list, _, err := out.Keep()
	return list, err
}

// withoutScratch returns the task without what it keeps between runs, by which
// one run could hand something to the next.
func withoutScratch(t *graph.Task) *graph.Task {
	if len(t.Scratch) == 0 {
		return t
	}
	alone, declared := *t, *t.Task
	declared.Scratch = nil
	alone.Task = &declared
	return &alone
}
