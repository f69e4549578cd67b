// Package fleet has the rules of runs that are requested from runners: the states of a
// request, when a lost job is tried again, which jobs are protected, and which shelf a job
// writes to. It knows neither the queue nor the runners.
package fleet

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
	"grayloft.example/grayloft/internal/core/shelf"
)

// State is the state of a request or of one of its jobs.
type State string

// The states. The last four are final.
const (
	Queued    State = "queued"
	Running   State = "running"
	Passed    State = "passed"
	Failed    State = "failed"
	Cancelled State = "cancelled"
	Lost      State = "lost" // its runners disappeared, as often as it was tried
)

// HasEnded tells whether a state is final.
func (s State) HasEnded() bool { return s != Queued && s != Running }

// Of returns the state of a request whose jobs have these states.
func Of(jobs []State) State {
	switch {
	case slices.ContainsFunc(jobs, func(s State) bool { return !s.HasEnded() }):
		if slices.ContainsFunc(jobs, func(s State) bool { return s != Queued }) {
			return Running
		}
		return Queued
	}
	for _, worst := range []State{Cancelled, Failed, Lost} {
		if slices.Contains(jobs, worst) {
			return worst
		}
	}
	return Passed
}

const (
	// MaxLosses is how many runners may be lost with a job. Only a lost runner is a reason to
	// try again, never a failed task.
	MaxLosses = 3
	// MaxAttempts is how many runners get a job at most, those included that gave it back.
	MaxAttempts = 20
)

// AfterLoss returns the state of a job that lost so many runners in so many attempts, the
// last one included.
func AfterLoss(losses, attempts int, cancelled bool) State {
	switch {
	case cancelled:
		return Cancelled
	case losses < MaxLosses && attempts < MaxAttempts:
		return Queued
	}
	return Lost
}

// poolName is how a pool may be called.
var poolName = pattern.New(`^[a-z0-9][a-z0-9-]{0,31}$`)

// CheckPool refuses names that a pool cannot have.
func CheckPool(name string) error {
	if !poolName.MatchString(name) {
		return fmt.Errorf("%q is not the name of a pool: use up to 32 lower-case letters, digits and hyphens", name)
	}
	return nil
}

// forbidden is what a branch cannot have in its name (git-check-ref-format(1)).
var forbidden = pattern.New(`[\x00-\x20\x7f~^:?*\[\\]|\.\.|@\{|//|/\.|^[-/.@]$|^[-/.]|[/.]$|\.lock(/|$)`)

// CheckBranch refuses names that a branch cannot have.
func CheckBranch(name string) error {
	if name == "" || name == "HEAD" || forbidden.MatchString(name) {
		return fmt.Errorf("%q is not the name of a branch", name)
	}
	return nil
}

// Protection is what is protected in a repository.
type Protection struct {
	Refs  []string `json:"refs"`  // branches, or patterns such as release/*, with reviewed commits only
	Pools []string `json:"pools"` // they carry out protected jobs alone
}

// HasPool tells whether a pool carries out protected jobs alone.
func (p Protection) HasPool(name string) bool { return slices.Contains(p.Pools, name) }

// HasRef tells whether a branch is protected.
func (p Protection) HasRef(branch string) bool {
	return branch != "" && slices.ContainsFunc(p.Refs, func(pattern string) bool {
		ok, err := path.Match(pattern, branch)
		return err == nil && ok
	})
}

// String says what is protected; empty: nothing.
func (p Protection) String() string {
	var out []string
	if len(p.Refs) > 0 {
		out = append(out, "branches "+strings.Join(p.Refs, ", "))
	}
	if len(p.Pools) > 0 {
		out = append(out, "pools "+strings.Join(p.Pools, ", "))
	}
	return strings.Join(out, "; ")
}

// Check refuses patterns and names that nothing can have.
func (p Protection) Check() error {
	for _, ref := range p.Refs {
		if _, err := path.Match(ref, ""); err != nil || ref == "" || strings.HasPrefix(ref, "-") {
			return fmt.Errorf("%q is not a branch and not a pattern of branches, such as release/*", ref)
		}
	}
	for _, name := range p.Pools {
		if err := CheckPool(name); err != nil {
			return err
		}
	}
	return nil
}

// Asker is who requests a run: what decides which shelf its jobs write to.
type Asker struct {
	Name     string // of the token
	WritesTo string // the shelf or pattern of the token
}

// Shelf returns the shelf that a job writes to. Protected jobs alone write to the trusted
// one; what a person requests goes to the person's own shelf.
func (a Asker) Shelf(protected bool, branch string) string {
	switch {
	case protected:
		return shelf.Trusted
	case a.WritesTo == shelf.Trusted || a.WritesTo == "branch/*":
		if branch == "" {
			branch = "detached"
		}
		return "branch/" + branch
	case strings.HasSuffix(a.WritesTo, "/*"):
		return strings.TrimSuffix(a.WritesTo, "*") + a.Name
	}
	return a.WritesTo
}

// turnEach is how many open requests of somebody make the next ones wait for those of others.
const turnEach = 10

// Turn returns with which priority a job waits, 1 is first: that of its request, and one less for
// every ten requests that whoever made it has open.
func Turn(priority, open int) int { return min(lastTurn, priority+open/turnEach) }

// lastTurn is the last priority.
const lastTurn = 4
