package protocol

import (
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
)

// JoinHello is the body of POST joins: a run takes part in a run of several machines.
type JoinHello struct {
	ID   string        `json:"id"`   // that all members give
	Plan digest.Digest `json:"plan"` // of what all members have to agree on
	Run  string        `json:"run"`
}

// JoinWelcome is the answer to it. Elsewhere is another shelf, which the token reads, on which there is
// a join of the same name that is newer than a day: its members are not this run's.
type JoinWelcome struct {
	Elsewhere string `json:"elsewhere,omitempty"`
}

// JoinAsk is the body of POST joins/{id}/tasks: a member is about to run a task.
type JoinAsk struct {
	Run         string            `json:"run"`
	Task        string            `json:"task"`
	Key         digest.Digest     `json:"key"`
	Ingredients map[string]string `json:"ingredients"` // digests by name, to say what differs
	Place       string            `json:"place"`
	Seconds     float64           `json:"seconds"` // that it is expected to take; 0: unknown
	Shareable   bool              `json:"shareable"`
	Once        bool              `json:"once"`    // it must not run twice
	Missing     bool              `json:"missing"` // its shared result could not be used
}

// JoinAnswer is the answer to it. Of what another member did, Other says which.
type JoinAnswer struct {
	Step    decide.JoinStep `json:"step"`
	Other   *HeldClaim      `json:"other,omitempty"`
	Message string          `json:"message,omitempty"` // of a failure
	Differ  []string        `json:"differ,omitempty"`  // names of ingredients
}

// JoinReport is the body of POST joins/{id}/reports: how tasks of a member stand. Running
// renews their leases.
type JoinReport struct {
	Run     string           `json:"run"`
	State   decide.JoinState `json:"state"`
	Tasks   []string         `json:"tasks"`
	Message string           `json:"message,omitempty"`
}
