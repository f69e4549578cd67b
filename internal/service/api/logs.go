package api

import (
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/records"
)

// logLines is how many lines of a log one answer has.
const logLines = 5000

// requireLog lets a token look at the logs of runs if it may view records, or if it reads
// the shelf of the run: it then reads the log with the result anyway.
func (s *Server) requireLog(c *gin.Context) {
	t := token(c)
	if t.MayView {
		return
	}
	run, err := s.Records.RunHead(c.Request.Context(), t.RepositoryID, c.Param("id"))
	if err != nil && !errors.Is(err, records.ErrNotExist) {
		s.fault(c, err)
		return
	}
	if err != nil || !t.MayRead(run.Shelf) {
		s.requireView(c)
	}
}

// runLog answers with lines of a log: the last ones, or those from "first" on.
// The log of a task that runs is what its client has sent of it.
func (s *Server) runLog(c *gin.Context) {
	repo, run, task := token(c).RepositoryID, c.Param("id"), c.Query("task")
	first := -1
	if c.Query("first") != "" {
		var ok bool
		if first, ok = number(c, "first", 0, 10_000_000); !ok {
			return
		}
	}
	d, err := s.Records.RunLog(c.Request.Context(), repo, run, task)
	if errors.Is(err, records.ErrNotExist) {
		growing, gerr := s.Records.GrowingLog(c.Request.Context(), repo, run, task, records.Lines{First: first, Most: logLines})
		if gerr == nil && growing.Total > 0 {
			c.JSON(http.StatusOK, growing)
			return
		}
	}
	if err != nil {
		s.fault(c, err)
		return
	}
	text, err := s.stored().Read(c.Request.Context(), repo, d, 2*tasklog.Max)
	if err != nil {
		s.fault(c, err)
		return
	}
	lines := tasklog.Parse(text)
	if first < 0 {
		first = max(0, len(lines)-logLines)
	}
	out := protocol.Log{Task: task, First: min(first, len(lines)), Lines: []protocol.LogLine{}, Total: len(lines)}
	for _, l := range lines[out.First:min(out.First+logLines, len(lines))] {
		out.Lines = append(out.Lines, protocol.LogLine{At: l.At.Seconds(), Text: l.Text})
	}
	c.JSON(http.StatusOK, out)
}

// addLines takes what running tasks printed.
func (s *Server) addLines(c *gin.Context) {
	var in protocol.LogChunks
	if !s.decode(c, eventsBody, &in) || !accept(c, bounds.LogChunks(in)) {
		return
	}
	have, err := s.Records.AddLines(c.Request.Context(), token(c), c.Param("id"), in.Chunks)
	s.recorded(c, err, protocol.LogAnswer{Have: have})
}
