package decide_test

import (
	"testing"

	"grayloft.example/grayloft/internal/core/decide"
)

func TestAJoinRunsEachTaskOnceWhereItCan(t *testing.T) {
	type known = decide.JoinTask
	share, alone, once := decide.JoinAsk{Shareable: true}, decide.JoinAsk{}, decide.JoinAsk{Once: true}
	missing := decide.JoinAsk{Shareable: true, Missing: true}
	for _, c := range []struct {
		what string
		t    known
		a    decide.JoinAsk
		want decide.JoinStep
	}{
		{"nobody ran it", known{}, share, decide.StepRun},
		{"another runs it", known{State: decide.JoinRunning, Alive: true}, share, decide.StepWait},
		{"another was lost with it", known{State: decide.JoinRunning}, share, decide.StepRun},
		{"another shared it", known{State: decide.JoinShared}, share, decide.StepFetch},
		{"what another shared is gone", known{State: decide.JoinShared}, missing, decide.StepRun},
		{"another could not share it", known{State: decide.JoinUnshared}, share, decide.StepRun},
		{"it failed elsewhere", known{State: decide.JoinFailed}, share, decide.StepFailed},
		{"it failed elsewhere, and cannot be shared", known{State: decide.JoinFailed}, alone, decide.StepFailed},
		{"it cannot be shared, and runs elsewhere", known{State: decide.JoinRunning, Alive: true}, alone, decide.StepRun},
		{"its files changed while it ran here", known{State: decide.JoinRunning, Own: true, Alive: true}, share, decide.StepRun},
		{"other inputs", known{State: decide.JoinShared, Differ: true}, share, decide.StepDiffer},
		{"once, and nobody ran it", known{}, once, decide.StepRun},
		{"once, and it runs elsewhere", known{State: decide.JoinRunning, Alive: true}, once, decide.StepWait},
		{"once, and its runner was lost", known{State: decide.JoinRunning}, once, decide.StepLost},
		{"once, and this machine lost its lease", known{State: decide.JoinRunning, Own: true}, once, decide.StepLost},
		{"once, and it passed elsewhere", known{State: decide.JoinUnshared}, once, decide.StepDone},
		{"once, and it failed elsewhere", known{State: decide.JoinFailed}, once, decide.StepFailed},
	} {
		if got := decide.Joined(c.t, c.a); got != c.want {
			t.Errorf("%s: %s, not %s", c.what, got, c.want)
		}
	}
}
