package api_test

import (
	"encoding/json"
	"fmt"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/trial"
)

// A claim is granted to one run, seen by those who read its shelf, and ends as it is
// said.
func TestClaims(t *testing.T) {
	t.Parallel()
	c := newCaller(t, ci)
	s := trial.Serve(t)
	person, other := *c, *c
	person.token = s.Token(t, "brenna", "person/brenna", "trusted")
	other.token = s.Token(t, "oskar", "person/oskar", "trusted")
	key := digest.Of([]byte(t.Name()))
	claim := func(c *caller, shelf, run string, after int64) (a protocol.ClaimAnswer) {
		t.Helper()
		in := protocol.Claim{Key: key, Shelf: shelf, Run: run, Task: "build@tides", Seconds: 100, Place: "here", After: after}
		if err := json.Unmarshal(c.want(200, "POST", "/v1/test/claims", in), &a); err != nil {
			t.Fatal(err)
		}
		return a
	}
	mine := claim(c, "trusted", "ci-1", 0)
	if mine.Granted == 0 || mine.Held != nil {
		t.Fatalf("%+v", mine)
	}
	if a := claim(c, "trusted", "ci-2", 0); a.Held == nil || a.Held.Run != "ci-1" || a.Held.Seconds != 100 || a.Held.Elapsed > 60 ||
		a.Held.ID != mine.Granted {
		t.Errorf("another run of CI: %+v", a)
	}
	if a := claim(&person, "person/brenna", "p-1", 0); a.Held == nil || a.Held.Run != "ci-1" || a.Held.Place != "here" {
		t.Errorf("a person: %+v", a)
	}
	if a := claim(c, "trusted", "ci-1", 0); a.Granted == 0 {
		t.Errorf("the same run again: %+v", a)
	} else {
		mine = a
	}
	at := fmt.Sprintf("/v1/test/claims/%d", mine.Granted)
	c.want(204, "POST", at+"/renew", nil)
	person.want(404, "POST", at+"/renew", nil)
	person.want(404, "DELETE", at+"?end=failed", nil)
	person.want(403, "POST", "/v1/test/claims", protocol.Claim{Key: key, Shelf: "trusted", Run: "x", Task: "x"})
	c.want(400, "DELETE", at+"?end=shared", nil)
	c.want(404, "DELETE", "/v1/test/claims/x?end=failed", nil)
	c.want(400, "POST", "/v1/test/claims", protocol.Claim{Shelf: "trusted", Run: "x", Task: "x"})
	c.want(204, "DELETE", at+"?end=failed", nil)
	c.want(404, "POST", at+"/renew", nil)

	// Whoever waited for it runs at once; others claim.
	if a := claim(&person, "person/brenna", "p-1", mine.Granted); a.Ended != protocol.ClaimFailed {
		t.Errorf("after a failure: %+v", a)
	}
	his := claim(&person, "person/brenna", "p-1", 0)
	if his.Granted == 0 {
		t.Errorf("%+v", his)
	}
	if a := claim(&other, "person/oskar", "o-1", 0); a.Granted == 0 {
		t.Errorf("CI and others do not wait for a person: %+v", a)
	}
	if a := claim(c, "trusted", "ci-3", 0); a.Granted == 0 {
		t.Errorf("CI does not wait for a person: %+v", a)
	}
}

func TestAStoredResultEndsItsClaim(t *testing.T) {
	t.Parallel()
	c := newCaller(t, ci)
	e := c.entry(listing.List{}.Encode(), &key.Ingredients{Dir: "a", Command: []string{"sleep 20"}})
	e.Seconds = 20
	ask := func(run string, k digest.Digest) (a protocol.ClaimAnswer) {
		t.Helper()
		in := protocol.Claim{Key: k, Shelf: "trusted", Run: run, Task: e.Task}
		if err := json.Unmarshal(c.want(200, "POST", "/v1/test/claims", in), &a); err != nil {
			t.Fatal(err)
		}
		return a
	}
	first := ask("r1", e.Key)
	if a := ask("r2", e.Key); first.Granted == 0 || a.Held == nil || a.Held.Seconds != 0 {
		t.Fatalf("nothing is known of the task: %+v, %+v", first, a)
	}
	c.want(201, "PUT", path(e, "trusted"), e)
	if a := ask("r2", e.Key); !a.Stored || a.Held != nil || a.Granted != 0 {
		t.Errorf("the result is there: %+v", a)
	}
	c.want(404, "POST", fmt.Sprintf("/v1/test/claims/%d/renew", first.Granted), nil)

	// What the task took is what it is expected to take, under any key.
	other := digest.Of([]byte("another key"))
	ask("r1", other)
	if a := ask("r2", other); a.Held == nil || a.Held.Seconds != 20 {
		t.Errorf("it took 20 s before: %+v", a)
	}
	short := c.entry(listing.List{}.Encode(), &key.Ingredients{Dir: "a", Command: []string{"sleep 1"}})
	short.Seconds = 1
	if _, err := c.s.DB.Exec(`UPDATE entries SET made_at = made_at - interval '1 day' WHERE repository_id = (SELECT id FROM repositories WHERE name = $1)`, c.s.Repo); err != nil {
		t.Fatal(err)
	}
	c.want(201, "PUT", path(short, "trusted"), short)
	if a := ask("r1", digest.Of([]byte("a third key"))); a != (protocol.ClaimAnswer{}) {
		t.Errorf("it took 1 s before: %+v", a)
	}
}
