package remote

import (
	"context"
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
