package claim_test

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/claim"
	"grayloft.example/grayloft/internal/protocol"
)

// service answers as it is told, and counts.
type service struct {
	answer  protocol.ClaimAnswer
	silent  bool  // it does not answer
	down    bool  // it was given up
	renewal error // the answer to renewals
	asked   []protocol.Claim
	renewed atomic.Int64
	ended   []protocol.ClaimEnd
}

func (s *service) Claim(ctx context.Context, c protocol.Claim) (protocol.ClaimAnswer, error) {
	s.asked = append(s.asked, c)
	if s.down {
		return protocol.ClaimAnswer{}, protocol.ErrDown
	}
	if s.silent {
		<-ctx.Done()
		return protocol.ClaimAnswer{}, ctx.Err()
	}
	return s.answer, nil
}

func (s *service) FollowLog(context.Context, string, string, int) ([]string, error) { return nil, nil }

func (s *service) RenewClaim(context.Context, int64) error {
	s.renewed.Add(1)
	return s.renewal
}

func (s *service) EndClaim(_ context.Context, _ int64, end protocol.ClaimEnd) error {
	s.ended = append(s.ended, end)
	return nil
}

func of(s *service) *claim.Claims {
	return &claim.Claims{Service: s, Run: "r", Maker: func() protocol.Maker { return protocol.Maker{Place: "ci-4"} }}
}

var build = claim.Request{Task: "build@lib", Key: digest.Of([]byte("build")), Seconds: 20}

func TestAServiceThatDoesNotAnswerStopsNobody(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &service{silent: true}
		c := of(s)
		began := time.Now()
		for range 10 {
			if a := c.Take(t.Context(), build); a.Held != nil || a.Stored {
				t.Fatalf("%+v", a)
			}
		}
		if took := time.Since(began); took > 3*time.Second || len(s.asked) != 1 {
			t.Errorf("%d requests took %v", len(s.asked), took)
		}
		s.silent = false
		time.Sleep(protocol.ClaimLease)
		c.Take(t.Context(), build)
		if len(s.asked) != 2 {
			t.Error("it is never asked again")
		}
		c.Finish(t.Context())
	})
}

// All who wait would run the task at the same moment if the service is silent for a moment.
func TestWhoWaitsForgivesAServiceAMoment(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &service{answer: protocol.ClaimAnswer{Held: &protocol.HeldClaim{ID: 3, Elapsed: 5, Seconds: 60}}}
		c := of(s)
		c.Take(t.Context(), build)
		s.silent = true
		other := build
		other.Key = digest.Of([]byte("other"))
		for range 3 {
			time.Sleep(time.Second)
			if a := c.Take(t.Context(), build); a.Held == nil || a.Held.Elapsed < 6 {
				t.Fatalf("it is not waited for any more: %+v", a)
			}
			if a := c.Take(t.Context(), other); a.Held != nil {
				t.Fatalf("a task is waited for that nobody runs: %+v", a)
			}
		}
		if n := len(s.asked); n != 4 {
			t.Errorf("asked %d times: once more for each time that it waited, and for nothing else", n)
		}
		s.silent = false
		c.Take(t.Context(), build)
		if c.Take(t.Context(), other); s.asked[len(s.asked)-1].Key != other.Key {
			t.Error("a service that answers again is not asked about other tasks")
		}
		s.silent = true
		time.Sleep(protocol.ClaimLease / 2)
		if a := c.Take(t.Context(), build); a.Held != nil {
			t.Errorf("it is waited for although the service says nothing for half a lease: %+v", a)
		}
	})
}

func TestAServiceThatWasGivenUpStopsTheWaiting(t *testing.T) {
	s := &service{answer: protocol.ClaimAnswer{Held: &protocol.HeldClaim{ID: 3, Seconds: 60}}}
	c := of(s)
	c.Take(t.Context(), build)
	s.down = true
	if a := c.Take(t.Context(), build); a.Held != nil {
		t.Errorf("%+v", a)
	}
}

func TestAClaimIsRenewedUntilItEnds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &service{answer: protocol.ClaimAnswer{Granted: 7}}
		c := of(s)
		c.Take(t.Context(), build)
		time.Sleep(2*protocol.ClaimLease + time.Second)
		if s.renewed.Load() < 6 {
			t.Errorf("renewed %d times in two leases", s.renewed.Load())
		}
		c.End(t.Context(), build.Key, claim.Ending{Outcome: decide.Failed})
		n := s.renewed.Load()
		time.Sleep(2 * protocol.ClaimLease)
		c.Finish(t.Context())
		if s.renewed.Load() != n || len(s.ended) != 1 || s.ended[0] != protocol.ClaimFailed {
			t.Errorf("renewed %d times after its end; ended %v", s.renewed.Load()-n, s.ended)
		}
	})
}

func TestAClaimThatIsLostIsForgotten(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &service{answer: protocol.ClaimAnswer{Granted: 7}, renewal: fmt.Errorf("renew: %w", protocol.ErrGone)}
		c := of(s)
		c.Take(t.Context(), build)
		time.Sleep(3 * protocol.ClaimLease)
		c.Finish(t.Context())
		if s.renewed.Load() != 1 || len(s.ended) != 0 {
			t.Errorf("renewed %d times, ended %v", s.renewed.Load(), s.ended)
		}
	})
}

func TestWhatIsLeftEndsWithTheRun(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &service{answer: protocol.ClaimAnswer{Granted: 7}}
		c := of(s)
		c.Take(t.Context(), build)
		c.Finish(t.Context())
		if len(s.ended) != 1 || s.ended[0] != protocol.ClaimUnshared {
			t.Errorf("ended %v", s.ended)
		}
	})
}

func TestWhoWaitsSaysForWhat(t *testing.T) {
	s := &service{answer: protocol.ClaimAnswer{Held: &protocol.HeldClaim{ID: 5, Place: "ci-4"}}}
	c := of(s)
	if a := c.Take(t.Context(), build); a.Held == nil || a.Held.ID != 5 {
		t.Fatalf("%+v", a)
	}
	c.Take(t.Context(), build)
	if s.asked[0].After != 0 || s.asked[1].After != 5 {
		t.Errorf("%+v", s.asked)
	}
	// A result that is said to be stored is looked for once: if it cannot be used, the task
	// runs.
	s.answer = protocol.ClaimAnswer{Stored: true}
	if !c.Take(t.Context(), build).Stored || c.Take(t.Context(), build).Stored {
		t.Error("a stored result is looked for once")
	}
}

func TestAClientThatGivesTheServiceUpEndsItsClaims(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &service{answer: protocol.ClaimAnswer{Granted: 7}, renewal: protocol.ErrDown}
		c := of(s)
		c.Take(t.Context(), build)
		time.Sleep(protocol.ClaimLease)
		c.Finish(t.Context())
		if s.renewed.Load() != 1 || len(s.ended) != 1 {
			t.Errorf("renewed %d times, ended %v", s.renewed.Load(), s.ended)
		}
	})
}

// The upload of a result ends its claim: nothing is asked for it any more.
func TestAnUploadEndsAClaim(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &service{answer: protocol.ClaimAnswer{Granted: 7}}
		c := of(s)
		c.Take(t.Context(), build)
		c.Uploaded(build.Key, true)
		time.Sleep(2*protocol.ClaimLease + time.Second) // at the lease itself, a renewal begins as well
		c.Take(t.Context(), build)
		c.Uploaded(build.Key, false)
		c.Finish(t.Context())
		if s.renewed.Load() != 0 || len(s.ended) != 1 {
			t.Errorf("renewed %d times, ended %v: only the one without a result is ended", s.renewed.Load(), s.ended)
		}
	})
}
