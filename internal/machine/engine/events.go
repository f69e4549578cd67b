package engine

import (
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/look"
	"grayloft.example/grayloft/internal/machine/transfer"
)

// event is what a worker found out about a task. The variants are below.
type event interface{ about() source }

// source says which worker an event comes from.
type source struct {
	task    *graph.Task
	slot    int                 // that the worker gives back; 0: it had none
	brought []*transfer.Brought // outputs that were put on the disk for the task
}

func (s source) about() source { return s }

// processEnded says that the task's process has ended well, and its outputs are now kept.
// The worker goes on.
type processEnded struct{ source }

// haveResult says that the task has an outcome.
type haveResult struct {
	source
	result *Result
	output *Output       // nil: it has no valid result
	shared digest.Digest // the key under which it is uploaded
}

// mustRun says that the task has to run.
type mustRun struct {
	source
	verdict verdict
}

// filesChanged says that the task's files changed, so that it has to be settled
// again. If it counts, it may not happen without limit.
type filesChanged struct {
	source
	counts bool
}

// outputsGone says that the outputs of a dependency are no longer available, so
// that the dependency has to run first.
type outputsGone struct {
	source
	dependency *graph.Task
}

// outputsDiffer says that the outputs of a dependency are no longer what its listing says, so that it
// has to be settled again first.
type outputsDiffer struct {
	source
	dependency *graph.Task
}

// runsElsewhere says that another client runs the task, so that its result is waited for;
// none: it came in meanwhile.
type runsElsewhere struct {
	source
	place string  // "" if it came in meanwhile
	run   string  // of the other client
	left  float64 // expected seconds until the result; 0: unknown
}

// waitedEnough says that it is time to look again for the result of a task that runs
// elsewhere.
type waitedEnough struct {
	source
	log followed
}

// followed is how far the log of a run elsewhere was passed on.
type followed struct {
	run  string
	next int // number of the next line
}

// verdict is why a task has to run.
type verdict struct {
	decide.Decision
	taken      look.Taken
	notFetched digest.Digest // with [key.Faster]: the listing that was not fetched
}
