package api

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"
)

// Limits bound what clients may do at a time. 0 stands for no limit.
type Limits struct {
	Rate    float64 // requests per second and token; twice as many at once
	Uploads int64   // at a time, of all tokens
	Quota   int64   // bytes that a repository may hold, unless its own row says otherwise
}

// limits is how far the limits are used up.
type limits struct {
	Limits
	uploads *semaphore.Weighted
	mu      sync.Mutex
	of      map[int64]*rate.Limiter // by token
	held    map[int64]*storedUsage  // by repository
}

// holding is what a repository holds, as it was counted last and grew since.
type storedUsage struct {
	bytes, quota int64
	counted      time.Time
}

// recount is after how long what a repository holds is counted again.
const recountAfter = 30 * time.Second

// uploadWait is how long an upload waits for its turn.
const uploadWait = 5 * time.Second

func newLimits(l Limits) *limits {
	out := &limits{Limits: l, of: map[int64]*rate.Limiter{}, held: map[int64]*storedUsage{}}
	if l.Uploads > 0 {
		out.uploads = semaphore.NewWeighted(l.Uploads)
	}
	return out
}

func later(c *gin.Context, after time.Duration, title, detail string) {
	c.Header("Retry-After", fmt.Sprintf("%.0f", max(1, after.Seconds()+0.5)))
	problem(c, http.StatusTooManyRequests, title, detail)
}

// limitRate holds a token to its rate.
func (s *Server) limitRate(c *gin.Context) {
	l := s.limits
	if l.Rate <= 0 {
		return
	}
	id := token(c).ID
	l.mu.Lock()
	r, ok := l.of[id]
	if !ok {
		r = rate.NewLimiter(rate.Limit(l.Rate), max(1, int(2*l.Rate)))
		l.of[id] = r
	}
	l.mu.Unlock()
	if !r.Allow() {
		s.metrics.limited.WithLabelValues("rate").Inc()
		later(c, time.Second, "too many requests", fmt.Sprintf("the token %q may make %g a second", token(c).Name, l.Rate))
	}
}

// limitUploads lets so many uploads go on at a time.
func (s *Server) limitUploads(c *gin.Context) {
	l := s.limits
	if l.uploads == nil {
		return
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), uploadWait)
	defer cancel()
	if l.uploads.Acquire(ctx, 1) != nil {
		s.metrics.limited.WithLabelValues("uploads").Inc()
		later(c, uploadWait, "too many uploads at a time", fmt.Sprintf("%d go on, and there was no room within %s", l.Limits.Uploads, uploadWait))
		return
	}
	s.metrics.uploading.Inc()
	defer func() {
		s.metrics.uploading.Dec()
		l.uploads.Release(1)
	}()
	c.Next()
}

// room tells whether a repository's quota has room for so many bytes more, or
// answers that it has none.
func (s *Server) room(c *gin.Context, more int64) bool {
	repo := token(c).RepositoryID
	h, err := s.storedBytes(c.Request.Context(), repo)
	if err != nil {
		s.fault(c, err)
		return false
	}
	if h.quota > 0 && h.bytes+more > h.quota {
		s.metrics.limited.WithLabelValues("quota").Inc()
		problem(c, http.StatusInsufficientStorage, "the repository's share of the cache is full",
			fmt.Sprintf("it holds %d of %d bytes; what was used least is let go of, and its room is there again after a while", h.bytes, h.quota))
		return false
	}
	return true
}

func (s *Server) storedBytes(ctx context.Context, repo int64) (storedUsage, error) {
	l := s.limits
	l.mu.Lock()
	h, ok := l.held[repo]
	if ok && time.Since(h.counted) < recountAfter {
		defer l.mu.Unlock()
		return *h, nil
	}
	l.mu.Unlock()
	bytes, quota, err := s.Records.StoredBytes(ctx, repo)
	if err != nil {
		return storedUsage{}, err
	}
	if quota == 0 {
		quota = l.Quota
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.held[repo] = &storedUsage{bytes, quota, time.Now()}
	return *l.held[repo], nil
}

// took adds what came in to what a repository holds.
func (s *Server) took(repo, bytes int64) {
	s.limits.mu.Lock()
	defer s.limits.mu.Unlock()
	if h := s.limits.held[repo]; h != nil {
		h.bytes += bytes
	}
}

// Recount forgets what repositories hold, so that it is counted again: the
// sweeper has been at it.
func (s *Server) Recount() {
	s.limits.mu.Lock()
	defer s.limits.mu.Unlock()
	clear(s.limits.held)
}
