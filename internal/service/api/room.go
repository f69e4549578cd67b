package api

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/shelf"
	"grayloft.example/grayloft/internal/service/records"
)

// ledger tracks how many bytes repositories store, and what uploads in progress
// will add: room is reserved before anything is read.
type ledger struct {
	count func(ctx context.Context, repo int64) (records.StoredBytes, error)
	quota int64 // of repositories without one of their own; 0: none
	mu    sync.Mutex
	of    map[int64]*account
}

// account is the last count of a repository, and what was added since.
type account struct {
	counting sync.Mutex // held by whoever counts

	stored  records.StoredBytes
	counted time.Time        // zero: it must be counted
	open    int64            // reserved bytes
	owned   map[string]int64 // reserved bytes, by owner
	// meanwhile is what was stored since a count began, by owner: the count may lack it. Nil if
	// nobody counts.
	meanwhile map[string]int64
	took      time.Duration // the last count
}

// recountAfter is the age at which the stored bytes of a repository are counted again, and
// recountShare how many times longer than counting them that takes at least: a count looks at all
// blobs.
const (
	recountAfter = 30 * time.Second
	recountShare = 200
)

// waitingShare is the part of the quota that blobs waiting for deletion may take
// in addition; what exceeds it counts against the quota.
const waitingShare = 10

// reservation is room for bytes that are about to arrive.
type reservation struct {
	ledger *ledger
	repo   int64
	owner  string
	bytes  int64
}

// account returns the account of a repository, counted recently. What is stored while it is counted
// is added to the count, perhaps twice: it never shows room that is not there.
func (l *ledger) account(ctx context.Context, repo int64) (*account, error) {
	a, fresh := l.known(repo)
	if fresh {
		return a, nil
	}
	a.counting.Lock()
	defer a.counting.Unlock()
	if _, fresh = l.known(repo); fresh { // somebody else has just counted
		return a, nil
	}
	began := time.Now()
	l.mu.Lock()
	a.meanwhile, a.counted = map[string]int64{}, began
	l.mu.Unlock()
	stored, err := l.count(ctx, repo)
	l.mu.Lock()
	defer l.mu.Unlock()
	meanwhile := a.meanwhile
	a.meanwhile = nil
	a.took = time.Since(began)
	if err != nil {
		a.counted = time.Time{}
		return nil, err
	}
	if stored.Quota == 0 {
		stored.Quota = l.quota
	}
	if stored.Owned == nil {
		stored.Owned = map[string]int64{}
	}
	for owner, n := range meanwhile {
		stored.Live += n
		stored.Owned[owner] += n
	}
	a.stored = stored
	return a, nil
}

// known returns the account of a repository, and whether it was counted recently.
func (l *ledger) known(repo int64) (a *account, fresh bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if a = l.of[repo]; a == nil {
		a = &account{owned: map[string]int64{}}
		l.of[repo] = a
	}
	return a, a.meanwhile == nil && time.Since(a.counted) < max(recountAfter, recountShare*a.took)
}

// fullError says which quota has no room.
type fullError struct{ what, detail string }

func (e fullError) Error() string { return e.what + ": " + e.detail }

// reserve reserves room for bytes that an owner is about to upload.
func (l *ledger) reserve(ctx context.Context, repo int64, owner string, bytes int64) (*reservation, error) {
	a, err := l.account(ctx, repo)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	s := a.stored
	used := s.Live + a.open + max(0, s.Waiting-s.Quota/waitingShare)
	if s.Quota > 0 && used+bytes > s.Quota {
		return nil, fullError{"the repository's quota is used up", fmt.Sprintf(
			"it stores %d of %d bytes; the service removes the least recently used results, so there is room again after a while",
			used, s.Quota)}
	}
	limit := shelf.Limit(owner, s.Quota, s.Shelves)
	if mine := s.Owned[owner] + a.owned[owner]; limit > 0 && mine+bytes > limit {
		return nil, fullError{"the quota of the shelf " + owner + " is used up", fmt.Sprintf(
			"it stores %d of %d bytes; the service removes its least recently used results, so there is room again after a while",
			mine, limit)}
	}
	a.open += bytes
	a.owned[owner] += bytes
	return &reservation{l, repo, owner, bytes}, nil
}

// end ends a reservation. Stored tells that the bytes are stored now.
func (r *reservation) end(stored bool) {
	r.ledger.mu.Lock()
	defer r.ledger.mu.Unlock()
	a := r.ledger.of[r.repo]
	a.open -= r.bytes
	if a.owned[r.owner] -= r.bytes; a.owned[r.owner] <= 0 {
		delete(a.owned, r.owner)
	}
	if stored {
		a.stored.Live += r.bytes
		a.stored.Owned[r.owner] += r.bytes
		if a.meanwhile != nil {
			a.meanwhile[r.owner] += r.bytes
		}
	}
}

// recount makes the ledger count again.
func (l *ledger) recount() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, a := range l.of {
		a.counted = time.Time{}
	}
}

// reserve reserves room for a blob of the caller.
func (s *Server) reserve(c *gin.Context, bytes int64) (*reservation, error) {
	t := token(c)
	return s.ledger.reserve(c.Request.Context(), t.RepositoryID, t.WritesTo, bytes+records.RowCost)
}

// noRoom answers that a quota is used up.
func (s *Server) noRoom(c *gin.Context, full fullError) {
	s.metrics.http.limited.WithLabelValues("quota").Inc()
	problem(c, http.StatusInsufficientStorage, full.what, full.detail)
}

// Recount makes the service count the stored bytes of repositories again, after
// a cleanup.
func (s *Server) Recount() { s.ledger.recount() }
