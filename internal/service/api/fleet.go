package api

import (
	"cmp"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/service/records"
)

// fleetRoutes are the routes of requested runs: of those who request them, and of runners.
func (s *Server) fleetRoutes(v *gin.RouterGroup) {
	look := v.Group("", s.requireViewOrRequest)
	look.GET("/fleet", s.overview)
	look.GET("/requests", s.requests)
	look.GET("/requests/:id", s.request)
	look.GET("/requests/:id/output", s.requestOutput)
	look.GET("/requests/:id/plan", s.requestPlan)
	ask := v.Group("", s.requireRequest)
	ask.POST("/requests", s.makeRequest)
	ask.POST("/requests/:id/cancel", s.cancelRequest)
	serve := v.Group("", s.requireServe)
	serve.POST("/runners", s.registerRunner)
	serve.POST("/runners/:id/next", s.nextJob)
	serve.DELETE("/runners/:id", s.leaveRunner)
	serve.POST("/jobs/:id/start", s.startJob)
	serve.POST("/jobs/:id/output", s.addJobLines)
	serve.POST("/jobs/:id/end", s.endJob)
	v.PUT("/protection", s.requireManage, s.protect)
}

func (s *Server) requireViewOrRequest(c *gin.Context) {
	if t := token(c); !t.MayView && !t.MayRequest {
		problem(c, http.StatusForbidden, "this token has neither the right to view records nor to request runs",
			"use a token that was made with --view or --request")
	}
}

func (s *Server) requireRequest(c *gin.Context) {
	if t := token(c); !t.MayRequest && !t.MayManage {
		problem(c, http.StatusForbidden, "this token does not have the right to request runs", "use a token that was made with --request")
	}
}

func (s *Server) requireServe(c *gin.Context) {
	if len(token(c).Serves) == 0 {
		problem(c, http.StatusForbidden, "this token does not have the right to serve as a runner",
			"use a token that was made with --serve POOL")
	}
}

// idOf returns the id in an address, or answers that there is nothing.
func idOf(c *gin.Context) (int64, bool) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil || id < 1 {
		problem(c, http.StatusNotFound, "not found", "the id is a number")
		return 0, false
	}
	return id, true
}

// fleetFault answers with the problem for an error of the fleet.
func (s *Server) fleetFault(c *gin.Context, err error) {
	var conflict fleet.ConflictError
	if errors.As(err, &conflict) {
		problem(c, http.StatusConflict, conflict.What, "")
		return
	}
	s.refused(c, err)
}

// answer answers with a value or an error of the fleet.
func (s *Server) answer(c *gin.Context, v any, err error) {
	switch {
	case err != nil:
		s.fleetFault(c, err)
	case v == nil:
		c.Status(http.StatusNoContent)
	default:
		c.JSON(http.StatusOK, v)
	}
}

func (s *Server) overview(c *gin.Context) {
	out, err := s.Fleet.Overview(c.Request.Context(), token(c).RepositoryID)
	s.answer(c, out, err)
}

const requestsEach = 50 // of one page, at most 200

func (s *Server) requests(c *gin.Context) {
	limit, ok := number(c, "limit", requestsEach, 200)
	if !ok {
		return
	}
	before, ok := number(c, "before", 0, 1<<53)
	if !ok {
		return
	}
	page, err := s.Fleet.Requests(c.Request.Context(), token(c).RepositoryID, fleet.Selection{
		Before: int64(before), Name: c.Query("name"), Open: c.Query("open") == "true", Limit: limit,
	})
	s.answer(c, page, err)
}

func (s *Server) request(c *gin.Context) {
	if id, ok := idOf(c); ok {
		q, err := s.Fleet.Request(c.Request.Context(), token(c).RepositoryID, id)
		s.answer(c, q, err)
	}
}

// knowable returns the request of an address, or answers that the token may not know more of it
// than that it exists.
func (s *Server) knowable(c *gin.Context) (int64, bool) {
	id, ok := idOf(c)
	if !ok {
		return 0, false
	}
	may, err := s.Fleet.MayKnow(c.Request.Context(), token(c), id)
	switch {
	case err != nil:
		s.fleetFault(c, err)
	case !may:
		problem(c, http.StatusForbidden, "this request is another person's, and this token does not read its shelf",
			"use a token that was made with --view")
	}
	return id, err == nil && may
}

const longestWait = 20 // seconds, for output

func (s *Server) requestOutput(c *gin.Context) {
	id, ok := s.knowable(c)
	if !ok {
		return
	}
	first, ok := number(c, "first", 0, 1<<31)
	if !ok {
		return
	}
	wait, ok := number(c, "wait", 0, longestWait)
	if !ok {
		return
	}
	out, err := s.Fleet.Output(c.Request.Context(), token(c).RepositoryID, id, first, time.Duration(wait)*time.Second)
	s.answer(c, out, err)
}

func (s *Server) requestPlan(c *gin.Context) {
	id, ok := s.knowable(c)
	if !ok {
		return
	}
	text, err := s.Fleet.Plan(c.Request.Context(), token(c).RepositoryID, id)
	if err != nil {
		s.fleetFault(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json", text)
}

func (s *Server) makeRequest(c *gin.Context) {
	var in protocol.Ask
	if !s.decode(c, protocol.MaxBody, &in) || !accept(c, bounds.Ask(in)) {
		return
	}
	made, err := s.Fleet.Make(c.Request.Context(), token(c), fleet.Origin{Kind: protocol.OriginPerson}, in)
	if err != nil {
		s.fleetFault(c, err)
		return
	}
	c.JSON(http.StatusCreated, made)
}

func (s *Server) cancelRequest(c *gin.Context) {
	if id, ok := idOf(c); ok {
		s.answer(c, nil, s.Fleet.Cancel(c.Request.Context(), token(c), id))
	}
}

func (s *Server) registerRunner(c *gin.Context) {
	var in protocol.RunnerHello
	if !s.decode(c, smallBody, &in) || !accept(c, bounds.RunnerHello(in)) {
		return
	}
	known, err := s.Fleet.Register(c.Request.Context(), token(c), in)
	s.answer(c, known, err)
}

func (s *Server) nextJob(c *gin.Context) {
	id, ok := idOf(c)
	var in protocol.WorkQuestion
	if !ok || !s.decode(c, protocol.MaxBody, &in) || !accept(c, bounds.WorkQuestion(in)) {
		return
	}
	answer, err := s.Fleet.Next(c.Request.Context(), token(c), id, in)
	s.answer(c, answer, err)
}

func (s *Server) leaveRunner(c *gin.Context) {
	if id, ok := idOf(c); ok {
		s.answer(c, nil, s.Fleet.Leave(c.Request.Context(), token(c), id))
	}
}

func (s *Server) startJob(c *gin.Context) {
	id, ok := idOf(c)
	var in protocol.JobStart
	if !ok || !s.decode(c, smallBody, &in) || !accept(c, bounds.JobStart(in)) {
		return
	}
	started, err := s.Fleet.Start(c.Request.Context(), token(c), id, in)
	c.Header("Cache-Control", "no-store")
	s.answer(c, started, err)
}

func (s *Server) addJobLines(c *gin.Context) {
	id, ok := idOf(c)
	var in protocol.JobLines
	if !ok || !s.decode(c, eventsBody, &in) || !accept(c, bounds.JobLines(in)) {
		return
	}
	s.answer(c, nil, s.Fleet.AddLines(c.Request.Context(), token(c), id, in))
}

func (s *Server) endJob(c *gin.Context) {
	id, ok := idOf(c)
	var in protocol.JobEnd
	if !ok || !s.decode(c, 2*protocol.MaxPlan, &in) || !accept(c, bounds.JobEnd(in)) {
		return
	}
	err := s.Fleet.End(c.Request.Context(), token(c), id, in)
	s.tokensKnown.clear() // the job's own has ended: this replica need not wait to be told
	s.answer(c, nil, err)
}

// protect changes what is protected.
func (s *Server) protect(c *gin.Context) {
	var in protocol.Protection
	if !s.decode(c, smallBody, &in) {
		return
	}
	err := s.Fleet.Protect(c.Request.Context(), token(c).RepositoryID, in)
	if err == nil {
		s.note(c, records.Audit{Action: "protection changed", Detail: cmp.Or(in.String(), "nothing is protected")})
	}
	s.answer(c, nil, err)
}
