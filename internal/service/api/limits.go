package api

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/hashicorp/golang-lru/v2/expirable"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"grayloft.example/grayloft/internal/core/digest"
)

// Limits bound what clients may do. 0 means no limit.
type Limits struct {
	Rate    float64 // requests per second and token; bursts up to twice as many
	Uploads int64   // concurrent uploads, of all tokens; one token gets at most a quarter
	Quota   int64   // bytes per repository, unless its own row has a quota
}

// limits tracks how much of the limits is used.
type limits struct {
	Limits
	uploads *semaphore.Weighted // nil: no limit
	parsing *semaphore.Weighted
	mu      sync.Mutex
	of      map[int64]*share // by token
	guesses *expirable.LRU[netip.Prefix, *rate.Limiter]
	right   *expirable.LRU[digest.Digest, struct{}] // of secrets that were right
}

// share is what one token uses.
type share struct {
	requests *rate.Limiter
	uploads  *semaphore.Weighted
}

// uploadWait is how long an upload waits for a free slot.
const uploadWait = 5 * time.Second

// uploadsShare is the part of all upload slots that one token may take.
const uploadsShare = 4

// An address may be wrong about its token this often; then only secrets that were
// right during the last day are looked at.
const (
	guessesPerSecond = 5
	guessesAtOnce    = 50
	guessesKept      = 50_000 // addresses
)

func newLimits(l Limits) *limits {
	out := &limits{
		Limits: l, of: map[int64]*share{}, parsing: semaphore.NewWeighted(parseBudget),
		guesses: expirable.NewLRU[netip.Prefix, *rate.Limiter](guessesKept, nil, 10*time.Minute),
		right:   expirable.NewLRU[digest.Digest, struct{}](guessesKept, nil, 24*time.Hour),
	}
	if l.Uploads > 0 {
		out.uploads = semaphore.NewWeighted(l.Uploads)
	}
	return out
}

// share returns what a token uses.
func (l *limits) share(token int64) *share {
	l.mu.Lock()
	defer l.mu.Unlock()
	u, ok := l.of[token]
	if !ok {
		u = &share{
			requests: rate.NewLimiter(rate.Limit(l.Rate), max(1, int(2*l.Rate))),
			uploads:  semaphore.NewWeighted(max(1, l.Uploads/uploadsShare)),
		}
		l.of[token] = u
	}
	return u
}

func later(c *gin.Context, after time.Duration, title, detail string) {
	c.Header("Retry-After", fmt.Sprintf("%.0f", max(1, after.Seconds()+0.5)))
	problem(c, http.StatusTooManyRequests, title, detail)
}

// limitRate enforces the request rate of a token.
func (s *Server) limitRate(c *gin.Context) {
	l := s.limits
	if l.Rate > 0 && !l.share(token(c).ID).requests.Allow() {
		s.metrics.http.limited.WithLabelValues("rate").Inc()
		later(c, time.Second, "too many requests", fmt.Sprintf("the token %q is limited to %g per second", token(c).Name, l.Rate))
	}
}

// address returns the network that a request comes from: an IPv4 address, or the
// 64 bits of an IPv6 address that one customer gets.
func address(r *http.Request) netip.Prefix {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return netip.Prefix{}
	}
	ip = ip.Unmap().WithZone("")
	bits := 32
	if ip.Is6() {
		bits = 64
	}
	p, _ := ip.Prefix(bits)
	return p
}

func (s *Server) guessesOf(c *gin.Context) *rate.Limiter {
	from := address(c.Request)
	r, ok := s.limits.guesses.Get(from)
	if !ok {
		r = rate.NewLimiter(guessesPerSecond, guessesAtOnce)
		s.limits.guesses.Add(from, r)
	}
	return r
}

// noteFailure counts a token or a session that does not exist.
func (s *Server) noteFailure(c *gin.Context) { s.guessesOf(c).Allow() }

func hashOf(secret string) digest.Digest {
	return digest.Derive("grayloft 2026-11-25 secret seen", []byte(secret))
}

// noteRight remembers that a secret was right, so that others who guess from the
// same address do not lock its owner out.
func (s *Server) noteRight(secret string) { s.limits.right.Add(hashOf(secret), struct{}{}) }

// isGuessing refuses a request from an address that was wrong too often, before
// the database is asked, unless its secret was right before.
func (s *Server) isGuessing(c *gin.Context, secret string) bool {
	if s.guessesOf(c).Tokens() >= 1 || s.limits.right.Contains(hashOf(secret)) {
		return false
	}
	s.metrics.http.limited.WithLabelValues("address").Inc()
	later(c, time.Second, "too many unknown tokens", "this address was wrong too often; wait a moment")
	return true
}

// takeSlot waits for a slot for an upload, or answers that there is none.
func (s *Server) takeSlot(c *gin.Context) (free func(), ok bool) {
	l := s.limits
	if l.uploads == nil {
		return func() {}, true
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), uploadWait)
	defer cancel()
	mine := l.share(token(c).ID).uploads
	err := mine.Acquire(ctx, 1)
	if err == nil {
		if err = l.uploads.Acquire(ctx, 1); err != nil {
			mine.Release(1)
		}
	}
	if err != nil {
		s.metrics.http.limited.WithLabelValues("uploads").Inc()
		later(
			c,
			uploadWait,
			"too many concurrent uploads",
			fmt.Sprintf("%d are in progress, %d of one token, and no slot became free within %s", l.Uploads,
				max(1, l.Uploads/uploadsShare), uploadWait),
		)
		return nil, false
	}
	s.metrics.cache.uploads.Inc()
	return func() {
		s.metrics.cache.uploads.Dec()
		l.uploads.Release(1)
		mine.Release(1)
	}, true
}

// limitUploads limits the number of concurrent uploads.
func (s *Server) limitUploads(c *gin.Context) {
	if free, ok := s.takeSlot(c); ok {
		defer free()
		c.Next()
	}
}
