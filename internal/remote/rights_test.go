package remote

import (
	"net/http"
	"testing"
	"testing/synctest"
)

// Without the service, this machine's results are used by what it said last; a token that it
// no longer knows has no rights.
func TestRightsOutliveTheServiceButNotTheToken(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &changing{}
		c, m := s.client(t)
		c.backlog.end(0)
		again := func() *Client { // of a later run
			c := New("http://service.example", "test", "loft-x", m)
			c.http = &http.Client{Transport: s}
			return c
		}
		s.set(refused, 0)
		if self, err := again().Self(t.Context()); err == nil || self.WritesTo != "trusted" {
			t.Errorf("%+v, %v", self, err)
		}
		if self := again().LastSelf(); self.WritesTo != "trusted" {
			t.Errorf("%+v", self)
		}
		down := again()
		down.http = &http.Client{Transport: transport(func(*http.Request) (*http.Response, error) {
			return &http.Response{StatusCode: http.StatusUnauthorized, Body: http.NoBody}, nil
		})}
		if self, err := down.Self(t.Context()); err == nil || self.WritesTo != "" {
			t.Errorf("a token that is not known: %+v, %v", self, err)
		}
		if self := again().LastSelf(); self.Repo != "" || self.WritesTo != "" {
			t.Errorf("after that: %+v", self)
		}
		if self := New("http://service.example", "test", "loft-x", nil).LastSelf(); len(self.ReadsFrom) > 0 {
			t.Errorf("without a cache: %+v", self)
		}
	})
}
