package engine

import (
	"context"
	"fmt"
	"runtime"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/process"
)

// held is how a task is kept to what it declares; of an open one, nothing.
type held struct {
	stage   *stage
	watched *watched
}

func (r *run) hold(t *graph.Task, before seen) held {
	switch t.Isolation {
	case decl.Sealed:
		name := digest.Of([]byte(t.Addr())).String()[:16]
		return held{stage: r.newStage(t, before.snap.Rows(t), name, false)}
	case decl.Traced:
		return held{watched: &watched{r: r, task: t}}
	}
	return held{}
}

// begin is called before every attempt, end after.
func (h held) begin(ctx context.Context) error {
	if h.stage == nil {
		return nil
	}
	return h.stage.fill(ctx)
}

func (h held) end() error {
	if h.stage == nil {
		return nil
	}
	return h.stage.scratchOut()
}

func (h held) dress(c *process.Command) {
	if h.stage != nil {
		h.stage.dress(c)
	}
	if h.watched != nil {
		h.watched.dress(c)
	}
}

func (h held) release() {
	if h.stage != nil {
		h.stage.remove()
	}
}

// audit notes how an audited task's declaration and what it opened differ.
func (h held) audit(res *Result, before seen) {
	if h.watched != nil {
		h.watched.audited(res, before.snap.Rows(res.Task))
	}
}

// hint says of a failed sealed task what it may have failed for.
func (h held) hint(ended process.Result) string {
	if h.stage == nil || ended.Exit != 126 && ended.Exit != 127 {
		return ""
	}
	return "; a sealed task finds programs only in the system's directories and in the dirs of its probes"
}

// keepOutputs keeps what the task wrote. Of a sealed task it is moved out of
// the stage into the checkout.
func (r *run) keepOutputs(ctx context.Context, out *checkout.Outputs, h held, res *Result) (listing.List, []string, error) {
	st := h.stage
	if st == nil {
		list, rooted, err := out.Keep()
		res.secret = out.Secret
		return list, rooted, err
	}
	staged := *out
	staged.Tree = st.tree()
	list, rooted, err := staged.Keep()
	res.secret = staged.Secret
	if err != nil {
		return nil, nil, err
	}
	if lacks := st.able.Lacks(st.seal.Network); len(lacks) > 0 {
		res.unheld = fmt.Sprintf("this machine cannot keep a sealed task from %s (%s)", strings.Join(lacks, ", nor from "), st.able.Why)
	}
	if runtime.GOOS == "linux" && st.able.Place && !st.seal.Moving {
		rooted = nil // the path that they hold is the same everywhere
	}
	last, _ := r.lastListing(out.Task)
	return list, rooted, out.Restore(ctx, list, last)
}

// sayUnheld says once why something is not shared.
func (r *run) sayUnheld(sentence string) {
	r.sayOnce(sentence, sentence+"; what it makes stays on this machine")
}

// sayOnce says a sentence, unless one about the same was said.
func (r *run) sayOnce(about, sentence string) {
	if _, said := r.said.LoadOrStore(about, true); !said {
		r.Observer.Warn(sentence)
	}
}

// fewMoved is of how many tasks it is said each that something was in the way.
const fewMoved = 5

// sayMoved says what was in a task's way and was moved; of many tasks, only how
// many there are, at the end.
func (r *run) sayMoved(sentence string) {
	if r.movedCount.Add(1) <= fewMoved {
		r.Observer.Warn(sentence)
	}
}

func (r *run) sayMore() {
	if more := r.movedCount.Load() - fewMoved; more > 0 {
		r.Observer.Warn(fmt.Sprintf("the outputs of %d tasks more were moved to %s/displaced/%s likewise", more, checkout.Dir, r.opt.Run))
	}
}
