package attack

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/trial"
)

// TestAJoinBelongsToItsMembers lets others squat a join's name, take its gate, and report for its
// members.
func TestAJoinBelongsToItsMembers(t *testing.T) {
	s := trial.Serve(t)
	plan, gate := digest.Of([]byte("night")), protocol.JoinAsk{Task: "gate@harbour", Key: digest.Of([]byte("gate")), Once: true}
	stranger := person(t, s, "stranger")
	stranger.want("POST", "/v1/test/joins", protocol.JoinHello{ID: "night", Plan: digest.Of([]byte("squatted")), Run: "run-stranger"})

	one, two := ci(t, s), as(t, s, s.Token(t, "other-ci", "trusted", "trusted"))
	one.want("POST", "/v1/test/joins", protocol.JoinHello{ID: "night", Plan: plan, Run: "run-0001"})
	step := func(a *attacker, run string) answer {
		ask := gate
		ask.Run = run
		return a.send("POST", "/v1/test/joins/night/tasks", ask)
	}
	refused(t, "a run that did not join", step(one, "run-0002"))
	refused(t, "another token that gives a member's run", step(two, "run-0001"))
	two.want("POST", "/v1/test/joins", protocol.JoinHello{ID: "night", Plan: plan, Run: "run-0002"})
	var got protocol.JoinAnswer
	if a := step(one, "run-0001"); json.Unmarshal(a.body, &got) != nil || got.Step != decide.StepRun {
		t.Fatalf("the first member does not run the gate: %d %s", a.status, a.body)
	}
	for _, state := range []decide.JoinState{decide.JoinUnshared, decide.JoinFailed, decide.JoinShared} {
		for _, a := range []*attacker{stranger, two} {
			for _, run := range []string{"run-0001", "run-0002", "run-stranger"} {
				a.send("POST", "/v1/test/joins/night/reports", protocol.JoinReport{
					Run: run, State: state, Tasks: []string{gate.Task}, Message: "made up",
				})
			}
		}
	}
	if a := step(two, "run-0002"); json.Unmarshal(a.body, &got) != nil || got.Step != decide.StepWait || got.Message != "" {
		t.Errorf("the other member was told this about the gate: %s", a.body)
	}
	// A run that says that it is part of a join is so only as its member.
	for i, a := range []*attacker{one, stranger} {
		a.want("POST", "/v1/test/runs", protocol.Run{
			ID: []string{"run-0001", "run-0009"}[i], Host: "h", Place: "p", Requested: []string{"gate"}, Started: time.Now(), Join: "night",
		})
	}
	if n := count(t, s, "SELECT count(*) FROM runs WHERE repository_id = $1 AND join_id <> ''", repository(t, s)); n != 1 {
		t.Errorf("%d runs are members of the join", n)
	}
}

// TestManyRunsOfOneJoinSlowNobody records thousands of members.
func TestManyRunsOfOneJoinSlowNobody(t *testing.T) {
	s := trial.Serve(t)
	a, id := ci(t, s), repository(t, s)
	plan := digest.Of([]byte("night"))
	full := 0
	for i := range 1100 {
		if got := a.send("POST", "/v1/test/joins", protocol.JoinHello{ID: "night", Plan: plan, Run: fmt.Sprintf("run-%05d", i)}); got.status >= 300 {
			refused(t, "one member too many", got)
			full++
		}
	}
	if full != 100 {
		t.Errorf("%d of 1,100 members were refused", full)
	}
	if _, err := s.DB.Exec(`
		INSERT INTO runs (repository_id, id, began, token_id, name, host, place, branch, commit, shelf, requested, no_reuse, jobs, tasks,
			started_at, words, join_id, follows)
		SELECT $1, 'run-' || n, now(), 1, 'ci', 'h', 'p', 'main', '', 'trusted', '{}', false, 1, 0, now(), '', 'night', n > 1
		FROM generate_series(1, 20000) n`, id); err != nil {
		t.Fatal(err)
	}
	// Whatever looks at all members once for each of them exceeds the time limit of a statement.
	var page struct {
		Total int `json:"total"`
	}
	if got := a.want("GET", "/v1/test/runs", nil); json.Unmarshal(got.body, &page) != nil || page.Total != 1 {
		t.Errorf("the list of runs: %s", got.body)
	}
	a.want("GET", "/v1/test/last-good?branch=main", nil)
}
