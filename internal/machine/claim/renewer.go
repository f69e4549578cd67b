package claim

import (
	"sync"
	"time"
)

// Renewer renews leases from time to time, from its start to its end. It is not safe for
// concurrent use.
type Renewer struct {
	stop chan struct{} // nil: nothing is renewed
	done sync.WaitGroup
}

// Start calls renew three times per lease, unless this was started before.
func (r *Renewer) Start(lease time.Duration, renew func()) {
	if r.stop != nil {
		return
	}
	stop := make(chan struct{})
	r.stop = stop
	r.done.Go(func() {
		tick := time.NewTicker(lease / 3)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				return
			case <-tick.C:
				renew()
			}
		}
	})
}

// Halt ends the renewals. It returns what waits for one that is being made; nil if none was
// started.
func (r *Renewer) Halt() (wait func()) {
	if r.stop == nil {
		return nil
	}
	close(r.stop)
	r.stop = nil
	return r.done.Wait
}
