package remote

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"
)

func TestPatienceEndsWithoutUsefulBytes(t *testing.T) {
	for name, c := range map[string]struct {
		forgets bool
		each    func(p *patience, i int) // every second
		over    bool                     // within a minute
	}{
		"nothing arrives":               {false, func(*patience, int) {}, true},
		"a byte a second":               {false, func(p *patience, _ int) { p.moved(1) }, true},
		"half of the least rate":        {false, func(p *patience, _ int) { p.moved(leastRate / 2) }, true},
		"the least rate":                {false, func(p *patience, _ int) { p.moved(leastRate) }, false},
		"much at once, then nothing":    {false, func(p *patience, i int) { p.moved(100 * leastRate / (1 + i*i*i*1000)) }, true},
		"answers, which are forgiven":   {true, func(p *patience, _ int) { _, w := p.begin(context.Background()); w.end(true) }, false},
		"answers without that":          {false, func(p *patience, _ int) { _, w := p.begin(context.Background()); w.end(true) }, true},
		"answers at the end of the run": {true, func(p *patience, _ int) { p.sharpen(); _, w := p.begin(context.Background()); w.end(true) }, true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				p := newPatience(c.forgets)
				ctx, open := p.begin(t.Context())
				defer open.end(false)
				for i := range 60 {
					select {
					case <-ctx.Done():
						if !c.over || time.Duration(i)*time.Second < patienceLimit-time.Second {
							t.Errorf("it is over after %d seconds", i)
						}
						return
					case <-time.After(time.Second):
						c.each(p, i)
					}
				}
				if c.over {
					t.Error("it is never over")
				}
			})
		})
	}
}

func TestTimeWithoutRequestsCostsNoPatience(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := newPatience(false)
		for range 100 {
			ctx, w := p.begin(t.Context())
			time.Sleep(100 * time.Millisecond)
			if ctx.Err() != nil {
				t.Fatal("requests that are answered quickly are given up")
			}
			w.end(true)
			time.Sleep(time.Hour)
		}
	})
}

// The service sends a byte now and then while it puts a large blob together.
func TestForgivenTimeIsNotLostWithTheFirstByte(t *testing.T) {
	for name, sharpen := range map[string]bool{"during a run": false, "at its end": true} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				p := newPatience(true)
				p.forgive(20 * time.Second)
				ctx, open := p.begin(t.Context())
				defer open.end(false)
				if sharpen {
					p.sharpen()
				}
				seconds := 0
				for ; ctx.Err() == nil && seconds < 60; seconds++ {
					time.Sleep(time.Second)
					p.moved(1)
				}
				if seconds < 20 || seconds > 30 {
					t.Errorf("it is over after %d seconds", seconds)
				}
			})
		})
	}
}

// transport answers requests in place of a service.
type transport func(*http.Request) (*http.Response, error)

func (t transport) RoundTrip(r *http.Request) (*http.Response, error) { return t(r) }

// Whoever works while the service hangs waits for it once a minute, not with each command.
func TestAServiceThatHangsDelaysOneCommandOfMany(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hangs, m := true, newMemory()
		answer := func(r *http.Request) (*http.Response, error) {
			if hangs {
				<-r.Context().Done()
				return nil, r.Context().Err()
			}
			body := io.NopCloser(strings.NewReader("{}"))
			return &http.Response{StatusCode: http.StatusOK, Header: http.Header{"Content-Type": {"application/json"}}, Body: body}, nil
		}
		command := func(insists bool) time.Duration {
			c := New("http://service.example", "test", "loft-x", m)
			c.http = &http.Client{Transport: transport(answer)}
			c.Hurry()
			if insists {
				c.Insist()
			}
			began := time.Now()
			behind := make(chan error)
			go func() { behind <- c.try(inBackground(t.Context()), http.MethodPost, "runs", nil, &struct{}{}) }()
			time.Sleep(100 * time.Millisecond) // so that the times of the two are over at different moments
			if _, err := c.Self(t.Context()); (err != nil) != hangs {
				t.Error(err)
			}
			c.Ending()
			if err := <-behind; (err != nil) != hangs {
				t.Error(err)
			}
			c.backlog.end(0)
			return time.Since(began).Round(100 * time.Millisecond)
		}
		for i, want := range []time.Duration{patienceLimit, briefLimit, briefLimit} {
			if took := command(false); took > want+100*time.Millisecond || took < want {
				t.Errorf("command %d took %v, want %v", i, took, want)
			}
		}
		if took := command(true); took < patienceLimit {
			t.Errorf("one that cannot do without the service gave up after %v", took)
		}
		time.Sleep(briefFor)
		if took := command(false); took < patienceLimit {
			t.Errorf("a minute later the service gets %v", took)
		}
		hangs = false
		command(false)
		hangs = true
		if took := command(false); took < patienceLimit {
			t.Errorf("after an answer the service gets %v", took)
		}
	})
}
