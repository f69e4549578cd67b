package api

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/service/records"
)

const (
	aliveEvery  = 20 * time.Second
	streamsEach = 50 // streams of one token
)

// live sends, as server-sent events, the ids of runs that change, and of those
// with a log that grows. It ends when its token does.
func (s *Server) live(c *gin.Context) {
	t := token(c)
	sub, stop := s.hub.subscribe(t)
	if sub == nil {
		later(c, aliveEvery, "too many streams", fmt.Sprintf("at most %d of one token are open at a time", streamsEach))
		return
	}
	defer stop()
	_ = http.NewResponseController(c.Writer).SetWriteDeadline(time.Time{}) // each write below has its own
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no")
	send := func(format string, args ...any) bool {
		_ = http.NewResponseController(c.Writer).SetWriteDeadline(time.Now().Add(slowGrace))
		_, err := fmt.Fprintf(c.Writer, format, args...)
		c.Writer.Flush()
		return err == nil
	}
	alive := time.NewTicker(aliveEvery)
	defer alive.Stop()
	for ok := send("retry: 1000\n: ready\n\n"); ok; {
		select {
		case <-c.Request.Context().Done():
			return
		case <-s.hub.closed:
			return
		case <-sub.ended:
			return
		case <-alive.C:
			// In case the news of its end was lost with a connection.
			valid, err := s.Records.IsValid(c.Request.Context(), t.ID)
			ok = (valid || err != nil) && send(": alive\n\n")
		case run := <-sub.runs:
			ok = send("event: run\ndata: {\"id\":%q}\n\n", run)
		case run := <-sub.logs:
			ok = send("event: log\ndata: {\"id\":%q}\n\n", run)
		case request := <-sub.requests:
			ok = send("event: request\ndata: {\"id\":%q}\n\n", request)
		}
	}
}

// hub forwards the ids of changed runs to the followers of a repository. It
// receives them from the database, so that replicas inform each other.
type hub struct {
	log   *slog.Logger
	ended func() // called when any token ended
	clean func() // called after a cleanup
	// requests is called when a request changed.
	requests func(repository, request int64, stops bool)
	once     sync.Once
	closed   chan struct{}
	mu       sync.Mutex
	subs     map[*subscription]bool
}

// subscription is one stream.
type subscription struct {
	repository, token int64
	runs              chan string
	logs              chan string // runs with tasks whose logs grew
	requests          chan string
	ended             chan struct{} // closed when the token ended
}

func newHub(log *slog.Logger, ended, clean func()) *hub {
	return &hub{log: log, ended: ended, clean: clean, closed: make(chan struct{}), subs: map[*subscription]bool{}}
}

// subscribe returns nil if the token has too many streams.
func (h *hub) subscribe(t records.Token) (*subscription, func()) {
	s := &subscription{t.RepositoryID, t.ID, make(chan string, 64), make(chan string, 64), make(chan string, 64), make(chan struct{})}
	h.mu.Lock()
	defer h.mu.Unlock()
	open := 0
	for other := range h.subs {
		if other.token == t.ID {
			open++
		}
	}
	if open >= streamsEach {
		return nil, nil
	}
	h.subs[s] = true
	return s, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.subs, s)
	}
}

// RunChanged implements [records.Listener].
func (h *hub) RunChanged(repository int64, run string) {
	h.tell(repository, run, func(s *subscription) chan string { return s.runs })
}

// LogGrew implements [records.Listener].
func (h *hub) LogGrew(repository int64, run string) {
	h.tell(repository, run, func(s *subscription) chan string { return s.logs })
}

// RequestChanged implements [records.Listener].
func (h *hub) RequestChanged(repository, request int64, stops bool) {
	h.requests(repository, request, stops)
	h.tell(repository, strconv.FormatInt(request, 10), func(s *subscription) chan string { return s.requests })
}

func (h *hub) tell(repository int64, run string, to func(*subscription) chan string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for s := range h.subs {
		if s.repository != repository {
			continue
		}
		select {
		case to(s) <- run:
		default: // too slow: it receives the next change
		}
	}
}

// Cleaned implements [records.Listener].
func (h *hub) Cleaned() { h.clean() }

// close ends all streams.
func (h *hub) close() { h.once.Do(func() { close(h.closed) }) }

// TokenEnded implements [records.Listener].
func (h *hub) TokenEnded(token int64) {
	h.ended()
	h.mu.Lock()
	defer h.mu.Unlock()
	for s := range h.subs {
		if s.token == token {
			close(s.ended)
			delete(h.subs, s)
		}
	}
}

// follow listens until the context ends, and reconnects if the connection is
// lost.
func (h *hub) follow(ctx context.Context, db *records.DB) {
	defer h.close()
	for wait := time.Second; ; wait = min(2*wait, 30*time.Second) {
		began := time.Now()
		err := db.Listen(ctx, h)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > time.Minute {
			wait = time.Second
		}
		h.log.Warn("lost the connection for changes of runs", "error", err, "again_in", wait)
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}
