package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// What another machine says about a claim is not believed where it makes no sense.
func TestAnAnswerToAClaimIsChecked(t *testing.T) {
	answer := ""
	c, _, said := client(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/self") {
			_ = json.NewEncoder(w).
				Encode(protocol.Self{Name: "ci", Repo: "test", WritesTo: "trusted", ReadsFrom: []string{"trusted"}})
			return
		}
		fmt.Fprint(w, answer)
	})
	in := protocol.Claim{Key: digest.Of([]byte("k")), Task: "build@tides", Run: "r"}
	answer = `{"granted": 4}`
	if _, err := c.Claim(context.Background(), in); !errors.Is(err, protocol.ErrDown) {
		t.Errorf("it is not known to which shelf it writes: %v", err)
	}
	if _, err := c.Self(context.Background()); err != nil {
		t.Fatal(err)
	}
	for text, held := range map[string]bool{
		`{"held": {"id": 3, "run": "r", "name": "ci", "elapsed": 10, "seconds": 100}}`:   true,
		`{"held": {"id": 3, "run": "r", "name": "ci", "elapsed": 10, "seconds": 0}}`:     true,
		`{"held": {"id": 0, "run": "r", "name": "ci", "elapsed": 10, "seconds": 100}}`:   false,
		`{"held": {"id": 3, "run": "r", "name": "ci", "elapsed": -10, "seconds": 100}}`:  false,
		`{"held": {"id": 3, "run": "r", "name": "ci", "elapsed": 10, "seconds": 1e300}}`: false,
		`{"granted": 4}`: false,
	} {
		answer = text
		got, err := c.Claim(context.Background(), in)
		if err != nil || (got.Held != nil) != held {
			t.Errorf("%s: %+v, %v", text, got, err)
		}
	}
	for _, text := range []string{`{"held": {"id": 3, "elapsed": 1e999}}`, `{"granted": `, `[]`, `hello`} {
		answer = text
		if got, err := c.Claim(context.Background(), in); err == nil {
			t.Errorf("%s: %+v", text, got)
		}
	}
	if len(*said) > 0 || c.Down() {
		t.Errorf("a claim is advice, and trouble with it is not the run's: %q", *said)
	}
}

func TestAClaimThatEndedIsGone(t *testing.T) {
	c, _, _ := client(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", protocol.TypeProblem)
		w.WriteHeader(http.StatusNotFound)
		_ = json.NewEncoder(w).Encode(protocol.Problem{Title: "there is no such claim", Status: 404})
	})
	if err := c.RenewClaim(context.Background(), 4); !errors.Is(err, protocol.ErrGone) {
		t.Errorf("renew: %v", err)
	}
	if err := c.EndClaim(context.Background(), 4, protocol.ClaimFailed); !errors.Is(err, protocol.ErrGone) {
		t.Errorf("end: %v", err)
	}
}

// A client that gave the service up still ends its claims, because others wait.
func TestAClaimEndsThoughTheServiceWasGivenUp(t *testing.T) {
	var ended []string
	c, _, _ := client(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodDelete {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		ended = append(ended, r.URL.Path+"?"+r.URL.RawQuery+" "+r.Header.Get("Authorization"))
		w.WriteHeader(http.StatusNoContent)
	})
	if _, err := c.Lookup(context.Background(), []protocol.Query{{Task: "a"}}); err == nil || !c.Down() {
		t.Fatalf("%v, down %v", err, c.Down())
	}
	if err := c.RenewClaim(context.Background(), 4); !errors.Is(err, protocol.ErrDown) {
		t.Errorf("renew: %v", err)
	}
	if err := c.EndClaim(context.Background(), 4, protocol.ClaimUnshared); err != nil {
		t.Errorf("end: %v", err)
	}
	if len(ended) != 1 || ended[0] != "/v1/test/claims/4?end=unshared Bearer loft-x" {
		t.Errorf("%q", ended)
	}
}
