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

// Limits bound what clients may do. 0 means no limit.
type Limits struct {
	Rate    float64 // requests per second and token; bursts up to twice as many
	Uploads int64   // concurrent uploads, of all tokens
	Quota   int64   // bytes per repository, unless its own row has a quota
}

// limits tracks how much of the limits is used.
type limits struct {
	Limits
	uploads *semaphore.Weighted
	mu      sync.Mutex
	of      map[int64]*rate.Limiter // by token
	held    map[int64]*storedUsage  // by repository
}

// storedUsage is what a repository stores: the last count and what was added
// since.
type storedUsage struct {
	bytes, quota int64
	counted      time.Time
}

// recountAfter is the age at which the stored bytes of a repository are counted
// again.
const recountAfter = 30 * time.Second

// uploadWait is how long an upload waits for a free slot.
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

// limitRate enforces the request rate of a token.
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
		s.metrics.http.limited.WithLabelValues("rate").Inc()
		later(c, time.Second, "too many requests", fmt.Sprintf("the token %q is limited to %g per second", token(c).Name, l.Rate))
	}
}

// limitUploads limits the number of concurrent uploads.
func (s *Server) limitUploads(c *gin.Context) {
	l := s.limits
	if l.uploads == nil {
		return
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), uploadWait)
	defer cancel()
	if l.uploads.Acquire(ctx, 1) != nil {
		s.metrics.http.limited.WithLabelValues("uploads").Inc()
		later(
			c,
			uploadWait,
			"too many concurrent uploads",
			fmt.Sprintf("%d are in progress, and no slot became free within %s", l.Limits.Uploads, uploadWait),
		)
		return
	}
	s.metrics.cache.uploads.Inc()
	defer func() {
		s.metrics.cache.uploads.Dec()
		l.uploads.Release(1)
	}()
	c.Next()
}

// room tells whether a repository's quota has room for more bytes, or answers
// that it does not.
func (s *Server) room(c *gin.Context, more int64) bool {
	repo := token(c).RepositoryID
	h, err := s.storedBytes(c.Request.Context(), repo)
	if err != nil {
		s.fault(c, err)
		return false
	}
	if h.quota > 0 && h.bytes+more > h.quota {
		s.metrics.http.limited.WithLabelValues("quota").Inc()
		problem(
			c,
			http.StatusInsufficientStorage,
			"the repository's quota is used up",
			fmt.Sprintf(
				"it stores %d of %d bytes; the service removes the least recently used results, so there is room again after a while",
				h.bytes,
				h.quota,
			),
		)
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

// took adds received bytes to the stored bytes of a repository.
func (s *Server) took(repo, bytes int64) {
	s.limits.mu.Lock()
	defer s.limits.mu.Unlock()
	if h := s.limits.held[repo]; h != nil {
		h.bytes += bytes
	}
}

// Recount makes the service count the stored bytes of repositories again, after
// a cleanup.
func (s *Server) Recount() {
	s.limits.mu.Lock()
	defer s.limits.mu.Unlock()
	clear(s.limits.held)
}
