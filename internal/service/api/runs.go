package api

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/records"
)

func (s *Server) startRun(c *gin.Context) {
	var in protocol.Run
	if !s.decode(c, protocol.MaxBody, &in) || !accept(c, bounds.Run(in)) {
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
	if !s.decode(c, eventsBody, &in) {
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
	for _, e := range in.Events {
		if !accept(c, bounds.Event(e)) {
			return
		}
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
