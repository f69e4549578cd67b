package api

import (
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
)

// parts answers durations of tasks, the same to everybody who divides the same
// work.
func (s *Server) parts(c *gin.Context) {
	under, ok := digestParam(c)
	if !ok {
		return
	}
	var in protocol.PartsQuestion
	if !s.decode(c, eventsBody, &in) {
		return
	}
	if len(in.Tasks) > protocol.MaxParts {
		problem(
			c,
			http.StatusRequestEntityTooLarge,
			"too many tasks in one request",
			fmt.Sprintf("at most %d are allowed", protocol.MaxParts),
		)
		return
	}
	seconds, err := s.Records.Parts(c.Request.Context(), token(c), under, in.Tasks)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, protocol.PartsAnswer{Seconds: seconds})
}
