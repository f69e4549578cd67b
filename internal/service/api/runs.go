package api

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/service/stored"
)

func (s *Server) startRun(c *gin.Context) {
	var in protocol.Run
	if !s.decode(c, protocol.MaxBody, &in) || !accept(c, bounds.Run(in)) {
		return
	}
	known, err := s.Records.StartRun(c.Request.Context(), token(c), in)
	if err == nil {
		err = s.Records.NoteJobRun(c.Request.Context(), token(c), in.ID)
	}
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, protocol.RunKnown{GraphKnown: known})
}

// putGraph stores the declarations of a repository, if they are valid.
func (s *Server) putGraph(c *gin.Context) {
	var in protocol.Graph
	if !s.decode(c, records.MaxGraph, &in) || !accept(c, bounds.Graph(in)) {
		return
	}
	if _, name := in.Encode(); name.String() != c.Param("digest") {
		problem(c, http.StatusBadRequest, "the declarations do not match their digest", "their digest is "+name.String())
		return
	}
	if err := s.Declarations.Check(in); err != nil {
		problem(c, http.StatusBadRequest, "the declarations are not valid", cutText(err.Error()))
		return
	}
	if err := s.Records.PutGraph(c.Request.Context(), token(c).RepositoryID, in); err != nil {
		s.fault(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// cutText shortens what a client caused, for an answer to it.
func cutText(text string) string { return text[:min(len(text), 1000)] }

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
	if errors.As(err, &gap) {
		problem(c, http.StatusConflict, "earlier events are missing", gap.Error())
		return
	}
	s.recorded(c, err, protocol.EventsAnswer{Through: through})
}

// recorded answers a client that reported something of its run.
func (s *Server) recorded(c *gin.Context, err error, answer any) {
	switch {
	case errors.Is(err, records.ErrOthers):
		problem(c, http.StatusForbidden, "this run belongs to another token", err.Error())
	case err != nil:
		s.fault(c, err)
	default:
		c.JSON(http.StatusOK, answer)
	}
}

// number reads a number from the query, or answers with a problem.
func number(c *gin.Context, name string, otherwise, most int) (int, bool) {
	text := c.Query(name)
	if text == "" {
		return otherwise, true
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < min(1, otherwise) || n > most {
		problem(c, http.StatusBadRequest, fmt.Sprintf("%s must be a number from %d to %d", name, min(1, otherwise), most), text)
		return 0, false
	}
	return n, true
}

func (s *Server) runs(c *gin.Context) {
	limit, ok := number(c, "limit", 100, 500)
	if !ok {
		return
	}
	skip, ok := number(c, "skip", 0, 10_000_000)
	if !ok {
		return
	}
	f, ok := runFilter(c)
	if !ok {
		return
	}
	order := records.RunOrder{
		Column:    c.Query("sort"),
		Ascending: c.Query("order") == "up",
		After:     c.Query("after"),
		Skip:      skip,
		Limit:     limit + 1,
	}
	if !records.RunOrders(order.Column) {
		problem(c, http.StatusBadRequest, "runs cannot be sorted by "+order.Column, "by began, took, saved, cost, ran or transferred")
		return
	}
	rows, total, err := s.Records.Runs(c.Request.Context(), token(c).RepositoryID, f, order)
	if err != nil {
		s.fault(c, err)
		return
	}
	page := protocol.RunPage{Runs: rows, Total: total, Until: f.Until.UTC()}
	if len(rows) > limit {
		page.Runs = rows[:limit]
		page.Next = rows[limit-1].ID
	}
	c.JSON(http.StatusOK, page)
}

func (s *Server) run(c *gin.Context) {
	ctx, repo := c.Request.Context(), token(c).RepositoryID
	d, err := s.Records.Run(ctx, repo, c.Param("id"))
	if err != nil {
		s.fault(c, err)
		return
	}
	g, err := s.Declarations.Graph(ctx, repo, d.Graph)
	if err != nil && !errors.Is(err, records.ErrNotExist) {
		s.fault(c, err)
		return
	}
	if g != nil {
		addDependencies(d.Records, g)
	}
	c.JSON(http.StatusOK, d)
}

// addDependencies says which tasks each task waited for.
func addDependencies(list []protocol.TaskRecord, g *graph.Graph) {
	for i := range list {
		if t := g.Task(list[i].Task); t != nil {
			for _, u := range t.Dependencies {
				list[i].Dependencies = append(list[i].Dependencies, u.Addr())
			}
		}
	}
}

func (s *Server) stored() stored.Reader { return stored.Reader{Records: s.Records, Blobs: s.Blobs} }

// intervals is the number of bars in a strip of the balance.
const intervals = 180

func (s *Server) balance(c *gin.Context) {
	f, ok := runFilter(c)
	if !ok {
		return
	}
	by := cmp.Or(c.Query("by"), "place")
	if !insight.Groupings(by) {
		problem(c, http.StatusBadRequest, "a balance cannot be grouped by "+by, "by place, branch, person or shelf")
		return
	}
	b, err := s.reader(c, nil).Balance(c.Request.Context(), f, by, intervals)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, b)
}

// facets returns the values by which runs can be filtered.
func (s *Server) facets(c *gin.Context) {
	days, ok := number(c, "days", 90, mostDays)
	if !ok {
		return
	}
	f, err := s.Records.RunFacets(c.Request.Context(), token(c).RepositoryID, time.Now().AddDate(0, 0, -days))
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, f)
}
