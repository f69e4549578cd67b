package decide

// Claim is what is known about a task that another client runs.
type Claim struct {
	Elapsed float64 // seconds since it began
	Seconds float64 // that it was expected to take; 0: unknown
}

const (
	// worthClaiming is how long a task is expected to take, in seconds, from which on it
	// is worth a request to announce it.
	worthClaiming = 2.0
	// unknownTask is how long a task of unknown duration is expected to take, in seconds.
	unknownTask = 60.0
	// longestUnknown is how long a claim of a task that never ran here is waited for at
	// most, in seconds since it began, whatever it says.
	longestUnknown = 3600.0
	// Overdue is the multiple of its estimate after which a claim is no longer waited for.
	Overdue = 1.5
)

// IsWorthClaiming tells whether a task is announced that is expected to take so many
// seconds; 0: unknown.
func IsWorthClaiming(seconds float64) bool { return seconds == 0 || seconds >= worthClaiming }

// expected returns how long the claimed task is expected to take in all: by its own
// estimate, or else by ours.
func (c Claim) expected(here float64) float64 {
	switch {
	case c.Seconds > 0:
		return c.Seconds
	case here > 0:
		return here
	}
	return unknownTask
}

// Await decides whether to wait for the result of a claimed task or to run it now, by
// what is expected to finish first: what is left of it and fetching its outputs, against
// running it, which took that many seconds when it last ran here (0: unknown, and taken
// to be the same as there). Left is the expected seconds until the result.
func Await(c Claim, here, fetching float64) (wait bool, left float64) {
	expected := c.expected(here)
	if c.Elapsed > Overdue*expected || here == 0 && c.Elapsed > longestUnknown {
		return false, 0
	}
	left = max(0, expected-c.Elapsed)
	if here == 0 {
		here = expected
	}
	return left+fetching <= here, left
}
