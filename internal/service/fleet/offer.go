package fleet

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/protocol"
)

// seeker is a runner that waits for work at this replica.
type seeker struct {
	runner int64
	has    []int64             // jobs that it carries out
	got    chan *protocol.Work // at most one, then closed: it was handed over, or nothing came of it
}

// idle are the seekers by queue, in the order in which they came. Offers of a queue are
// taken from River only while somebody seeks one here.
type idle struct {
	mu      sync.Mutex
	waiting map[string][]*seeker
	came    chan struct{} // closed when a seeker comes; nil: nobody waits for one
	served  map[string]bool
	serving sync.Mutex // held while queues are added and removed
}

func (i *idle) enter(queue string, s *seeker) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.waiting[queue] = append(i.waiting[queue], s)
	if i.came != nil {
		close(i.came)
		i.came = nil
	}
}

// leave removes a seeker, and tells whether it was still there: otherwise somebody is
// handing a job to it.
func (i *idle) leave(queue string, s *seeker) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	at := slices.Index(i.waiting[queue], s)
	if at < 0 {
		return false
	}
	i.waiting[queue] = slices.Delete(i.waiting[queue], at, at+1)
	return true
}

// take removes and returns the first seeker that does not carry the job out already, or
// else a channel that tells when another one comes.
func (i *idle) take(queue string, job int64) (*seeker, <-chan struct{}) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for at, s := range i.waiting[queue] {
		if !slices.Contains(s.has, job) {
			i.waiting[queue] = slices.Delete(i.waiting[queue], at, at+1)
			return s, nil
		}
	}
	if i.came == nil {
		i.came = make(chan struct{})
	}
	return nil, i.came
}

func (i *idle) isEmpty(queue string) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	return len(i.waiting[queue]) == 0
}

const (
	// lingering is how long a queue is served after its last seeker left: a runner that
	// asks again comes back within it.
	lingering = 2 * time.Second
	// seekerWait is how long an offer waits for a seeker before it goes back.
	seekerWait = time.Second
)

// serve starts to take offers of a queue from River.
func (f *Fleet) serve(queue string) error {
	f.idle.serving.Lock()
	defer f.idle.serving.Unlock()
	if f.idle.served == nil {
		f.idle.served = map[string]bool{}
	}
	if f.idle.served[queue] {
		return nil
	}
	if err := f.Queue.Serve(queue); err != nil {
		return err
	}
	f.idle.served[queue] = true
	return nil
}

// leaveIfIdle stops to take offers of a queue if nobody seeks one.
func (f *Fleet) leaveIfIdle(ctx context.Context, queue string) {
	f.idle.serving.Lock()
	defer f.idle.serving.Unlock()
	if !f.idle.served[queue] || !f.idle.isEmpty(queue) {
		return
	}
	if f.Queue.Leave(ctx, queue) == nil {
		delete(f.idle.served, queue)
	}
}

// Hand gives the job of an offer to a runner that seeks one. It reports false if there was
// none: the offer has to wait again. An offer of a job that does not wait any more is taken.
func (f *Fleet) Hand(ctx context.Context, o Offer) (taken bool, err error) {
	queue, err := f.queueOfJob(ctx, o)
	if err != nil || queue == "" {
		return err == nil, err
	}
	deadline := time.NewTimer(seekerWait)
	defer deadline.Stop()
	s, came := f.idle.take(queue, o.Job)
	for s == nil {
		select {
		case <-came:
		case <-deadline.C:
			return false, nil
		case <-ctx.Done():
			return false, ctx.Err()
		}
		s, came = f.idle.take(queue, o.Job)
	}
	defer close(s.got)
	work, err := f.handTo(ctx, o, s.runner)
	if work != nil {
		s.got <- work
	}
	return err == nil, err
}

// queueOfJob returns the queue of a job that waits; empty if it does not.
func (f *Fleet) queueOfJob(ctx context.Context, o Offer) (string, error) {
	var pool string
	err := f.DB.GetContext(ctx, &pool, `
		SELECT q.pool FROM jobs j JOIN requests q ON q.id = j.request_id
		WHERE j.repository_id = $1 AND j.id = $2 AND j.state = 'queued' AND j.attempt = $3`, o.Repository, o.Job, o.Attempt)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return queueOf(o.Repository, pool), err
}

// handTo makes a job that waits the runner's, for a lease; nil if it does not wait any more.
func (f *Fleet) handTo(ctx context.Context, o Offer, runner int64) (work *protocol.Work, err error) {
	err = f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		var row struct {
			Request int64  `db:"request_id"`
			Member  int    `db:"member"`
			Attempt int    `db:"attempt"`
			Ask     []byte `db:"ask"`
			Shelf   string `db:"shelf"`
			Guarded bool   `db:"protected"`
		}
		// The request first, as whoever cancels it does: two orders would wait for each other.
		if _, err := tx.ExecContext(ctx, `
			SELECT FROM requests WHERE id = (SELECT request_id FROM jobs WHERE repository_id = $1 AND id = $2) FOR UPDATE`,
			o.Repository, o.Job); err != nil {
			return err
		}
		err := tx.GetContext(ctx, &row, `
			UPDATE jobs j SET state = 'running', attempt = j.attempt + 1, runner_id = $4, lease_until = now() + make_interval(secs => $5),
				started_at = now(), message = '', run_id = ''
			FROM requests q
			WHERE q.id = j.request_id AND j.repository_id = $1 AND j.id = $2 AND j.state = 'queued' AND j.attempt = $3
			RETURNING j.request_id, j.member, j.attempt, q.ask, q.shelf, q.protected`,
			o.Repository, o.Job, o.Attempt, runner, f.Lease.Seconds())
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		got := &protocol.Work{Job: o.Job, Request: row.Request, Member: row.Member, Attempt: row.Attempt, Shelf: row.Shelf}
		if err := json.Unmarshal(row.Ask, &got.Ask); err != nil {
			return err
		}
		if row.Guarded {
			p, err := protection(ctx, tx, o.Repository)
			if err != nil {
				return err
			}
			got.Refs = append([]string{}, p.Refs...)
		}
		if err := settle(ctx, tx, o.Repository, row.Request, false); err != nil {
			return err
		}
		work = got
		return nil
	})
	if err != nil {
		work = nil
	}
	return work, err
}
