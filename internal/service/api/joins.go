package api

import (
	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
)

// join makes a run a member of a run of several machines.
func (s *Server) join(c *gin.Context) {
	var in protocol.JoinHello
	if s.decode(c, smallBody, &in) && accept(c, bounds.JoinHello(in)) {
		joined, err := s.Fleet.Join(c.Request.Context(), token(c), in)
		s.answer(c, joined, err)
	}
}

// joinStep says what a member does with a task.
func (s *Server) joinStep(c *gin.Context) {
	var in protocol.JoinAsk
	if !s.decode(c, protocol.MaxBody, &in) || !accept(c, bounds.JoinAsk(in)) {
		return
	}
	answer, err := s.Fleet.Step(c.Request.Context(), token(c), c.Param("id"), in)
	s.answer(c, answer, err)
}

// joinReport records how tasks of a member stand.
func (s *Server) joinReport(c *gin.Context) {
	var in protocol.JoinReport
	if s.decode(c, protocol.MaxBody, &in) && accept(c, bounds.JoinReport(in)) {
		s.answer(c, nil, s.Fleet.Report(c.Request.Context(), token(c), c.Param("id"), in))
	}
}
