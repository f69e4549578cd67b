package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"grayloft.example/grayloft/internal/protocol"
)

func aRun() protocol.Run { return protocol.Run{ID: "a-run-of-the-test"} }

// changing is a service that changes while a client uses it.
type changing struct {
	mu     sync.Mutex
	err    error // of every request; nil: it answers
	status int   // of every answer but to who asks for itself; 0: 200
	asked  []string
	events []protocol.Event
	said   []string
}

func (s *changing) set(err error, status int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.err, s.status = err, status
}

func (s *changing) RoundTrip(r *http.Request) (*http.Response, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked = append(s.asked, r.URL.Path)
	if s.err != nil {
		return nil, s.err
	}
	resp := &http.Response{StatusCode: http.StatusOK, Header: http.Header{"Content-Type": {"application/json"}}}
	text := "{}"
	switch {
	case strings.HasSuffix(r.URL.Path, "/self"):
		text = `{"repo":"test","writes_to":"trusted"}`
	case s.status != 0:
		resp.StatusCode = s.status
	case strings.HasSuffix(r.URL.Path, "/events"):
		var in protocol.Events
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			return nil, err
		}
		s.events = append(s.events, in.Events...)
	}
	resp.Body = io.NopCloser(strings.NewReader(text))
	return resp, nil
}

// client returns a client of the service, which answered once.
func (s *changing) client(t *testing.T) (*Client, *memory) {
	t.Helper()
	m := newMemory()
	c := New("http://service.example", "test", "loft-x", m)
	c.http = &http.Client{Transport: s}
	c.Warn = func(sentence string) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.said = append(s.said, sentence)
	}
	if _, err := c.Self(t.Context()); err != nil {
		t.Fatal(err)
	}
	return c, m
}

func (s *changing) count() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.asked)
}

func lookUp(c *Client) error {
	_, err := c.Lookup(context.Background(), []protocol.Query{{Task: "a"}})
	return err
}

var refused = &net.OpError{Op: "dial", Net: "tcp", Err: syscall.ECONNREFUSED}

// A service that was restarted is used again, and gets what was to be sent meanwhile.
func TestAServiceThatReturnsIsUsedAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &changing{}
		c, m := s.client(t)
		rec := Record(c, "a-run-of-the-test", aRun, func() protocol.Graph { return protocol.Graph{} })
		rec.Done(protocol.TaskRecord{Task: "a"})
		synctest.Wait()
		s.set(refused, 0)
		if err := lookUp(c); !errors.Is(err, protocol.ErrDown) {
			t.Fatal(err)
		}
		c.spool("run", "an-earlier-run", spooled{Run: &protocol.Run{ID: "an-earlier-run"}, Events: []protocol.Event{{Seq: 7}}})
		for i := range 5 {
			rec.Done(protocol.TaskRecord{Task: fmt.Sprint(i)})
			time.Sleep(time.Second)
		}
		if err := lookUp(c); !errors.Is(err, protocol.ErrDown) {
			t.Error(err)
		}
		s.set(nil, 0)
		time.Sleep(firstAsk + 2*firstAsk)
		_ = lookUp(c) // which asks
		synctest.Wait()
		if err := lookUp(c); err != nil {
			t.Errorf("it is not used again: %v", err)
		}
		rec.Finish(protocol.RunFinish{})
		if len(m.spool) > 0 {
			t.Errorf("in the spool: %v", m.spool)
		}
		seen := map[int64]int{}
		for _, e := range s.events {
			seen[e.Seq]++
		}
		for seq := int64(1); seq <= 7; seq++ { // one task, five more, the end; the seventh of the earlier run
			if seen[seq] == 0 {
				t.Errorf("event %d did not arrive: %v", seq, seen)
			}
		}
		if len(s.said) != 2 || !strings.Contains(s.said[0], "cannot be reached") || !strings.Contains(s.said[1], "answers again") {
			t.Errorf("%q", s.said)
		}
	})
}

// While nothing is looked up, as during a long task, the recording of the run asks.
func TestARecordGoesOnAfterAnOutage(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &changing{}
		c, _ := s.client(t)
		rec := Record(c, "a-run-of-the-test", aRun, func() protocol.Graph { return protocol.Graph{} })
		synctest.Wait()
		s.set(refused, 0)
		rec.Done(protocol.TaskRecord{Task: "a"})
		time.Sleep(10 * time.Second)
		s.set(nil, 0)
		time.Sleep(2 * laterAsk)
		s.mu.Lock()
		n := len(s.events)
		s.mu.Unlock()
		if n != 1 {
			t.Errorf("%d events arrived before the end", n)
		}
		rec.Finish(protocol.RunFinish{})
	})
}

// What asking again does not change is not asked again.
func TestARefusalIsFinal(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &changing{}
		c, _ := s.client(t)
		s.set(nil, http.StatusUnauthorized)
		_ = lookUp(c)
		n := s.count()
		for range 100 {
			time.Sleep(laterAsk)
			_ = lookUp(c)
		}
		synctest.Wait()
		if s.count() != n {
			t.Errorf("asked %d times", s.count()-n)
		}
		c.backlog.end(0)
	})
}

// A service that only answers who asks whether it answers is given up in the end.
func TestAServiceThatComesAndGoesIsGivenUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &changing{}
		c, _ := s.client(t)
		s.set(nil, http.StatusServiceUnavailable)
		for range 1000 {
			_ = lookUp(c)
			synctest.Wait()
			time.Sleep(time.Second)
		}
		if n := s.count(); n > 20 {
			t.Errorf("asked %d times", n)
		}
		if len(s.said) != 2*mostOutages-1 {
			t.Errorf("said %q", s.said)
		}
		if c.mayReturn() {
			t.Error("it is still asked")
		}
		c.backlog.end(0)
	})
}

// After an outage the service gets little time until it has answered.
func TestAServiceThatReturnsAndHangsCostsLittle(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &changing{}
		c, _ := s.client(t)
		s.set(refused, 0)
		_ = lookUp(c)
		s.set(nil, 0)
		time.Sleep(firstAsk)
		_ = lookUp(c)
		synctest.Wait()
		c.http = &http.Client{Transport: transport(func(r *http.Request) (*http.Response, error) {
			<-r.Context().Done()
			return nil, r.Context().Err()
		})}
		began := time.Now()
		_ = lookUp(c)
		if took := time.Since(began); took > 2*briefLimit || !c.Down() {
			t.Errorf("it took %v", took)
		}
		c.backlog.end(0)
	})
}
