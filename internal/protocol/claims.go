package protocol

import (
	"time"

	"grayloft.example/grayloft/internal/core/digest"
)

// ClaimLease is how long a claim lasts without being renewed.
const ClaimLease = 30 * time.Second

// Claim is the body of POST claims: a task that a client is about to run and to share.
type Claim struct {
	Key     digest.Digest `json:"key"`
	Shelf   string        `json:"shelf"` // that the result goes to
	Run     string        `json:"run"`
	Task    string        `json:"task"`
	Seconds float64       `json:"seconds"` // that it is expected to take; 0: unknown
	Host    string        `json:"host,omitempty"`
	Place   string        `json:"place,omitempty"`
	// After is a claim of another client that was waited for: if it ended without a
	// result, nobody else is waited for.
	After int64 `json:"after,omitempty"`
}

// ClaimAnswer is the answer to POST claims: the claim is granted, or another client has
// one, or the one that was waited for ended without a result, or the result is stored. An
// empty answer says that the task takes too little time to be claimed.
type ClaimAnswer struct {
	Granted int64      `json:"granted,omitempty"`
	Held    *HeldClaim `json:"held,omitempty"`
	Ended   ClaimEnd   `json:"ended,omitempty"`
	Stored  bool       `json:"stored,omitempty"` // the result is there
}

// HeldClaim is a claim of another client.
type HeldClaim struct {
	ID      int64   `json:"id"`
	Run     string  `json:"run"`
	Name    string  `json:"name"` // of the token
	Host    string  `json:"host,omitempty"`
	Place   string  `json:"place,omitempty"`
	Elapsed float64 `json:"elapsed"` // seconds since it began
	Seconds float64 `json:"seconds"` // that it was expected to take; 0: unknown
}

// ClaimEnd says how a claim ended without a result that can be fetched.
type ClaimEnd string

// The ends of claims. A claim whose result is stored ends by that.
const (
	ClaimFailed   ClaimEnd = "failed"
	ClaimUnshared ClaimEnd = "unshared" // it ran, and cannot be shared
)
