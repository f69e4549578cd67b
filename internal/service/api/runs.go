package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"regexp"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

var runID = regexp.MustCompile(`^[0-9a-z-]{8,64}$`)

func (s *Server) startRun(c *gin.Context) {
	var in protocol.Run
	if !decode(c, &in) {
		return
	}
	if !runID.MatchString(in.ID) || in.Started.IsZero() {
		problem(
			c,
			http.StatusBadRequest,
			"the run cannot be recorded",
			"it needs an id of 8 to 64 letters and digits, and the time at which it started",
		)
		return
	}
	if err := s.Records.StartRun(c.Request.Context(), token(c), in); err != nil {
		s.fault(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) addEvents(c *gin.Context) {
	var in protocol.Events
	if !decode(c, &in) {
		return
	}
	if len(in.Events) > protocol.MaxEvents {
		problem(
			c,
			http.StatusRequestEntityTooLarge,
			"too many events in one request",
			fmt.Sprintf("at most %d are allowed", protocol.MaxEvents),
		)
		return
	}
	through, err := s.Records.AddEvents(c.Request.Context(), token(c), c.Param("id"), in.Events)
	var gap records.GapError
	switch {
	case errors.As(err, &gap):
		problem(c, http.StatusConflict, "earlier events are missing", gap.Error())
	case errors.Is(err, records.ErrOthers):
		problem(c, http.StatusForbidden, "this run belongs to another token", err.Error())
	case err != nil:
		s.fault(c, err)
	default:
		c.JSON(http.StatusOK, protocol.EventsAnswer{Through: through})
	}
}

// number reads a number from the query, or answers with a problem.
func number(c *gin.Context, name string, otherwise, most int) (int, bool) {
	text := c.Query(name)
	if text == "" {
		return otherwise, true
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > most {
		problem(c, http.StatusBadRequest, fmt.Sprintf("%s must be a number from 1 to %d", name, most), text)
		return 0, false
	}
	return n, true
}

func (s *Server) runs(c *gin.Context) {
	limit, ok := number(c, "limit", 100, 500)
	if !ok {
		return
	}
	days, ok := number(c, "days", 3650, 3650)
	if !ok {
		return
	}
	rows, err := s.Records.Runs(c.Request.Context(), token(c).RepositoryID, records.RunFilter{
		Since: time.Now().AddDate(0, 0, -days), Place: c.Query("place"), Before: c.Query("before"), Limit: limit + 1,
	})
	if err != nil {
		s.fault(c, err)
		return
	}
	page := protocol.RunPage{Runs: rows}
	if len(rows) > limit {
		page.Runs = rows[:limit]
		page.Next = rows[limit-1].ID
	}
	c.JSON(http.StatusOK, page)
}

func (s *Server) run(c *gin.Context) {
	d, err := s.Records.Run(c.Request.Context(), token(c).RepositoryID, c.Param("id"))
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, d)
}

const logLines = 5000

func (s *Server) runLog(c *gin.Context) {
	repo := token(c).RepositoryID
	d, err := s.Records.RunLog(c.Request.Context(), repo, c.Param("id"), c.Query("task"))
	if err != nil {
		s.fault(c, err)
		return
	}
	b, err := s.Records.Blob(c.Request.Context(), repo, d)
	if err != nil {
		s.fault(c, err)
		return
	}
	r, err := s.Blobs.Open(c.Request.Context(), b.Object, 0, b.Size)
	if err != nil {
		s.fault(c, err)
		return
	}
	defer r.Close()
	text, err := io.ReadAll(io.LimitReader(r, 2*tasklog.Max))
	if err != nil {
		s.fault(c, err)
		return
	}
	lines := tasklog.Parse(text)
	out := protocol.Log{Task: c.Query("task"), Lines: []protocol.LogLine{}, Total: len(lines)}
	for _, l := range lines[max(0, len(lines)-logLines):] {
		out.Lines = append(out.Lines, protocol.LogLine{At: l.At.Seconds(), Text: l.Text})
	}
	c.JSON(http.StatusOK, out)
}

// intervals is the number of bars in a strip of the balance.
const intervals = 180

func (s *Server) balance(c *gin.Context) {
	days, ok := number(c, "days", 14, 3650)
	if !ok {
		return
	}
	until := time.Now()
	b, err := s.Records.Balance(c.Request.Context(), token(c).RepositoryID, until.AddDate(0, 0, -days), until, intervals)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, b)
}

// live sends, as server-sent events, the ids of runs that change.
func (s *Server) live(c *gin.Context) {
	ch, stop := s.hub.subscribe(token(c).RepositoryID)
	defer stop()
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no")
	_, _ = io.WriteString(c.Writer, ": ready\n\n")
	c.Writer.Flush()
	alive := time.NewTicker(20 * time.Second)
	defer alive.Stop()
	for {
		select {
		case <-c.Request.Context().Done():
			return
		case <-s.hub.closed:
			return
		case <-alive.C:
			_, _ = io.WriteString(c.Writer, ": alive\n\n")
		case run := <-ch:
			fmt.Fprintf(c.Writer, "event: run\ndata: {\"id\":%q}\n\n", run)
		}
		c.Writer.Flush()
	}
}

// hub forwards the ids of changed runs to the followers of a repository. It
// receives them from the database, so that replicas inform each other.
type hub struct {
	log    *slog.Logger
	closed chan struct{}
	mu     sync.Mutex
	subs   map[int64]map[chan string]bool
}

func newHub(log *slog.Logger) *hub {
	return &hub{log: log, closed: make(chan struct{}), subs: map[int64]map[chan string]bool{}}
}

func (h *hub) subscribe(repository int64) (<-chan string, func()) {
	ch := make(chan string, 64)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.subs[repository] == nil {
		h.subs[repository] = map[chan string]bool{}
	}
	h.subs[repository][ch] = true
	return ch, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.subs[repository], ch)
	}
}

func (h *hub) changed(repository int64, run string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.subs[repository] {
		select {
		case ch <- run:
		default: // too slow: it receives the next change
		}
	}
}

// follow listens until the context ends, and reconnects if the connection is
// lost.
func (h *hub) follow(ctx context.Context, db *records.DB) {
	defer close(h.closed)
	for wait := time.Second; ; wait = min(2*wait, 30*time.Second) {
		began := time.Now()
		err := db.Listen(ctx, h.changed)
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
