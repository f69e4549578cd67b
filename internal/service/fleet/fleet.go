// Package fleet hands requested runs to runners, and keeps the records of both. Requests
// come in, are divided into jobs, and wait in River's queue of their pool; a runner that
// asks for work gets the next one, for a lease that it renews. A job whose lease is over
// goes to another runner. It carries nothing out itself, and does not reach into runners:
// they ask.
package fleet

import (
	"context"
	"database/sql"
	"fmt"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// Fleet is the requests and runners of all repositories.
type Fleet struct {
	DB    *records.DB
	Queue Queue         // set before the first request
	Lease time.Duration // of jobs
	idle  idle
	wakes wakes

	closing sync.Once
	closed  chan struct{}
}

// Close ends everything that waits: a runner asks again, elsewhere.
func (f *Fleet) Close() { f.closing.Do(func() { close(f.closed) }) }

// New returns a fleet without a queue. A lease of 0 is [protocol.RunnerLease].
func New(db *records.DB, lease time.Duration) *Fleet {
	if lease == 0 {
		lease = protocol.RunnerLease
	}
	f := &Fleet{DB: db, Lease: lease, closed: make(chan struct{})}
	f.idle.waiting, f.wakes.on = map[string][]*seeker{}, map[string]*wake{}
	return f
}

// Queue is where jobs wait.
type Queue interface {
	// Insert adds an offer in a transaction.
	Insert(ctx context.Context, tx *sql.Tx, o Offer) error
	// Serve starts to take offers of a queue here; Leave ends it.
	Serve(queue string) error
	Leave(ctx context.Context, queue string) error
}

// Offer is a job that waits for a runner.
type Offer struct {
	Repository int64  `json:"repository"`
	Job        int64  `json:"job"`
	Attempt    int    `json:"attempt"` // attempts before this one
	Queue      string `json:"-"`
	Priority   int    `json:"-"` // 1 is first
}

// queueOf names the queue of a pool.
func queueOf(repository int64, pool string) string {
	return fmt.Sprintf("pool-%d-%s", repository, pool)
}

// Changed takes note that a request changed, at whatever replica.
func (f *Fleet) Changed(repository, request int64, stops bool) {
	f.wakes.call(requestKey(request))
	if stops {
		f.wakes.call(repositoryKey(repository))
	}
}

func requestKey(id int64) string    { return fmt.Sprint("request ", id) }
func repositoryKey(id int64) string { return fmt.Sprint("repository ", id) }

// wakes are what waits for news.
type wakes struct {
	mu sync.Mutex
	on map[string]*wake
}

// wake is a channel that is closed at the next news, and how many wait for it.
type wake struct {
	news    chan struct{}
	waiting int
}

// next returns a channel that is closed at the next news about something. Whoever asked leaves
// when it no longer waits: ids can be made up, so nothing is kept about one that nobody waits for.
func (w *wakes) next(key string) (news <-chan struct{}, leave func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	one, ok := w.on[key]
	if !ok {
		one = &wake{news: make(chan struct{})}
		w.on[key] = one
	}
	one.waiting++
	return one.news, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		if one.waiting--; one.waiting == 0 && w.on[key] == one {
			delete(w.on, key)
		}
	}
}

func (w *wakes) call(key string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if one, ok := w.on[key]; ok {
		close(one.news)
		delete(w.on, key)
	}
}

// ConflictError says that a job or request is not in the state that an action needs.
type ConflictError struct{ What string }

func (e ConflictError) Error() string { return e.What }

func missing(what string, id int64) error {
	return fmt.Errorf("%w: %s %d", records.ErrNotExist, what, id)
}

// settle computes the state of a request from its jobs.
func settle(ctx context.Context, tx *sqlx.Tx, repository, request int64, stops bool) error {
	var states []string
	if err := tx.SelectContext(ctx, &states, `SELECT state FROM jobs WHERE request_id = $1`, request); err != nil {
		return err
	}
	state := stateOf(states)
	_, err := tx.ExecContext(ctx, `
		UPDATE requests SET state = $2, started_at = CASE WHEN $2 = 'queued' THEN started_at ELSE coalesce(started_at, now()) END,
			ended_at = CASE WHEN $3 THEN coalesce(ended_at, now()) END
		WHERE id = $1`, request, string(state), state.HasEnded())
	if err != nil {
		return err
	}
	return records.NotifyRequest(ctx, tx, repository, request, stops)
}
