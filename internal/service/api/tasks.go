package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/insight"
)

// mostWeeks is how far back rollups can be asked for.
const mostWeeks = 530

// tasks lists all tasks with what happened to them.
func (s *Server) tasks(c *gin.Context) {
	f := insight.TaskFilter{Place: c.Query("place"), Text: c.Query("text"), Column: c.Query("sort"), Ascending: c.Query("order") == "up"}
	var ok bool
	if f.Weeks, ok = number(c, "weeks", 13, mostWeeks); !ok {
		return
	}
	if f.Limit, ok = number(c, "limit", 100, 500); !ok {
		return
	}
	if f.Skip, ok = number(c, "skip", 0, 1_000_000); !ok {
		return
	}
	if !accept(c, bounds.Text("place", f.Place)) || !accept(c, bounds.Text("text", f.Text)) {
		return
	}
	if !insight.TaskOrders(f.Column) {
		problem(c, http.StatusBadRequest, "tasks cannot be sorted by "+cutText(f.Column),
			"by time, task, executed, failed, mean, saved, transferred, hits, same or critical")
		return
	}
	page, err := s.reader(c, s.lastGraph(c)).Tasks(c.Request.Context(), f)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, page)
}

func (s *Server) reader(c *gin.Context, g *graph.Graph) insight.Reader {
	return insight.Reader{DB: s.Records, Repository: token(c).RepositoryID, Now: time.Now(), Graph: g}
}

// lastGraph returns the newest declarations; nil if there are none, or if they
// cannot be read: everything else is shown all the same.
func (s *Server) lastGraph(c *gin.Context) *graph.Graph {
	g, err := s.Declarations.Last(c.Request.Context(), token(c).RepositoryID)
	if err != nil {
		s.Log.Warn("the newest declarations cannot be read", "repository", token(c).Repository, "error", err)
		return nil
	}
	return g
}

// task answers how one task behaves.
func (s *Server) task(c *gin.Context) {
	weeks, ok := number(c, "weeks", 13, mostWeeks)
	if !ok || !accept(c, bounds.Text("task", c.Param("task"))) {
		return
	}
	b, err := s.reader(c, s.lastGraph(c)).Behaviour(c.Request.Context(), c.Param("task"), weeks)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, b)
}

// advice answers what is worth changing.
func (s *Server) advice(c *gin.Context) {
	weeks, ok := number(c, "weeks", 13, mostWeeks)
	if !ok {
		return
	}
	page, err := s.reader(c, s.lastGraph(c)).Advise(c.Request.Context(), weeks)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, page)
}
