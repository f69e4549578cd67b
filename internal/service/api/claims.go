package api

import (
	"cmp"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
)

// claim grants a client that it runs a task, or says who else runs it.
func (s *Server) claim(c *gin.Context) {
	t := token(c)
	var in protocol.Claim
	if !s.decode(c, protocol.MaxBody, &in) || !accept(c, bounds.Claim(in)) {
		return
	}
	if !t.MayWrite(in.Shelf) {
		problem(c, http.StatusForbidden, fmt.Sprintf("this token does not have the right to write to the shelf %q", in.Shelf),
			fmt.Sprintf("the token %q writes to %q", t.Name, t.WritesTo))
		return
	}
	answer, err := s.Records.Claim(c.Request.Context(), t, in, s.claimLease())
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, answer)
}

// renewClaim extends a claim of the caller; it is not found if it ended.
func (s *Server) renewClaim(c *gin.Context) {
	if id, ok := claimID(c); ok {
		s.claimChanged(c, s.Records.RenewClaim(c.Request.Context(), token(c), id, s.claimLease()))
	}
}

// endClaim ends a claim of the caller without a result.
func (s *Server) endClaim(c *gin.Context) {
	end := protocol.ClaimEnd(c.Query("end"))
	if end != protocol.ClaimFailed && end != protocol.ClaimUnshared {
		problem(c, http.StatusBadRequest, fmt.Sprintf("end must be %s or %s", protocol.ClaimFailed, protocol.ClaimUnshared), "")
		return
	}
	if id, ok := claimID(c); ok {
		s.claimChanged(c, s.Records.EndClaim(c.Request.Context(), token(c), id, end, s.claimLease()))
	}
}

func (s *Server) claimLease() time.Duration { return cmp.Or(s.Lease, protocol.ClaimLease) }

func claimID(c *gin.Context) (int64, bool) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil || id < 1 {
		problem(c, http.StatusNotFound, "there is no such claim", "")
		return 0, false
	}
	return id, true
}

func (s *Server) claimChanged(c *gin.Context, err error) {
	if err != nil {
		s.fault(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
