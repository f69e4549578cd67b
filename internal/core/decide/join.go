package decide

// JoinState is what a join knows of one of its tasks: of how its one run stands or ended.
type JoinState string

// The states of a task in a join. A task that no member has to run has none.
const (
	JoinRunning  JoinState = "running"
	JoinShared   JoinState = "shared"   // its result can be fetched
	JoinUnshared JoinState = "unshared" // it passed, but its result stays where it was made
	JoinFailed   JoinState = "failed"
)

// JoinTask is a task as a join knows it.
type JoinTask struct {
	State  JoinState // empty: nobody ran it yet
	Own    bool      // the asking member runs or ran it
	Alive  bool      // the lease of its runner is not over
	Differ bool      // the other member computed another key
}

// JoinAsk is what a member needs to know before it runs a task.
type JoinAsk struct {
	Shareable bool // its result may leave the machine
	Once      bool // its reuse is "never": it must not run twice
	Missing   bool // the shared result could not be used
}

// JoinStep is what a member does with a task that it would run.
type JoinStep string

// The steps.
const (
	StepRun    JoinStep = "run"    // it is this member's
	StepWait   JoinStep = "wait"   // another member runs it
	StepFetch  JoinStep = "fetch"  // another member shared its result
	StepDone   JoinStep = "done"   // another member ran it, and its result is not needed
	StepFailed JoinStep = "failed" // another member ran it, and it failed
	StepLost   JoinStep = "lost"   // the member that ran it is lost, and it must not run twice
	StepDiffer JoinStep = "differ" // another member has other inputs
)

// Joined says what a member does with a task (the rules of a run of several machines): a
// failure counts for all and is not tried again; what cannot be shared runs on each member
// that gets to it; what must not run twice runs on one member alone.
func Joined(t JoinTask, a JoinAsk) JoinStep {
	switch {
	case t.State == "":
		return StepRun
	case t.Differ:
		return StepDiffer
	case t.State == JoinFailed && !t.Own:
		return StepFailed
	case a.Once:
		return t.once()
	case !a.Shareable, t.Own, t.State == JoinUnshared, t.State == JoinShared && a.Missing, t.State == JoinRunning && !t.Alive:
		return StepRun
	case t.State == JoinShared:
		return StepFetch
	}
	return StepWait
}

// once is [Joined] for a task that must not run twice.
func (t JoinTask) once() JoinStep {
	switch {
	case t.State != JoinRunning && !t.Own:
		return StepDone
	case t.Own && t.State == JoinRunning && t.Alive:
		return StepRun
	case t.State == JoinRunning && !t.Alive:
		return StepLost
	}
	return StepWait
}
