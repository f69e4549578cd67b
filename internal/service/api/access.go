package api

import (
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/records"
)

func (s *Server) requireManage(c *gin.Context) {
	if !token(c).MayManage {
		problem(c, http.StatusForbidden, "this token does not have the right to manage", "use a token that was made with --manage")
	}
}

// refused answers with an error of a change: what is wrong with it, or a fault.
func (s *Server) refused(c *gin.Context, err error) {
	var invalid records.InvalidError
	if errors.As(err, &invalid) {
		problem(c, http.StatusBadRequest, "this is not allowed", invalid.Error())
		return
	}
	s.fault(c, err)
}

// note records an action in the audit log.
func (s *Server) note(c *gin.Context, a records.Audit) {
	a.Repository, a.Actor, a.Address = token(c).RepositoryID, token(c).Name, c.ClientIP()
	if err := s.Records.NoteAudit(c.Request.Context(), a); err != nil {
		s.Log.Error("an action is missing in the audit log", "action", a.Action, "subject", a.Subject, "error", err)
	}
}

// tokens lists the tokens of the repository.
func (s *Server) tokens(c *gin.Context) {
	list, err := s.Records.TokenRows(c.Request.Context(), token(c).RepositoryID)
	if err != nil {
		s.fault(c, err)
		return
	}
	out := protocol.TokenList{Tokens: []protocol.TokenRow{}}
	for _, t := range list {
		out.Tokens = append(out.Tokens, protocol.TokenRow{Self: selfOf(t.Token), MadeBy: t.MadeBy, MadeAt: t.MadeAt.UTC(), Used: t.Used})
	}
	c.JSON(http.StatusOK, out)
}

// makeToken makes a token, and shows its secret this one time.
func (s *Server) makeToken(c *gin.Context) {
	var in protocol.NewToken
	if !s.decode(c, protocol.MaxBody, &in) || !accept(c, bounds.NewToken(in)) {
		return
	}
	t := records.Token{
		Repository: token(c).Repository, Name: in.Name, WritesTo: in.WritesTo, ReadsFrom: in.ReadsFrom,
		MayView: in.View, MayManage: in.Manage, MayRequest: in.Request, Serves: in.Serves, MadeBy: token(c).Name,
	}
	if in.Days > 0 {
		at := time.Now().AddDate(0, 0, in.Days)
		t.ExpiresAt = &at
	}
	id, secret, err := s.Records.MakeToken(c.Request.Context(), t)
	if err != nil {
		s.refused(c, err)
		return
	}
	s.note(c, records.Audit{Action: "token made", Subject: in.Name, Detail: records.Rights(t)})
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusCreated, protocol.MadeToken{ID: id, Secret: secret})
}

// tokenNamed returns the token of this repository that the address names, or
// answers with a problem.
func (s *Server) tokenNamed(c *gin.Context) (records.TokenRow, bool) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		problem(c, http.StatusBadRequest, "the id of a token is a number", "")
		return records.TokenRow{}, false
	}
	t, err := s.Records.TokenRow(c.Request.Context(), token(c).RepositoryID, id)
	if err != nil {
		s.fault(c, err)
		return t, false
	}
	return t, true
}

// rotateToken gives a token a new secret.
func (s *Server) rotateToken(c *gin.Context) {
	t, ok := s.tokenNamed(c)
	if !ok {
		return
	}
	secret, err := s.Records.Rotate(c.Request.Context(), t.ID, records.Rotation{Grace: rotateGrace})
	if err != nil {
		s.fault(c, err)
		return
	}
	s.tokensKnown.clear()
	s.note(c, records.Audit{Action: "token rotated", Subject: t.Name})
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, protocol.Rotated{Token: secret, OldUntil: time.Now().Add(rotateGrace).UTC().Truncate(time.Second)})
}

// revokeToken revokes a token at once.
func (s *Server) revokeToken(c *gin.Context) {
	t, ok := s.tokenNamed(c)
	if !ok {
		return
	}
	if err := s.Records.Revoke(c.Request.Context(), t.ID); err != nil {
		s.fault(c, err)
		return
	}
	s.tokensKnown.clear()
	s.note(c, records.Audit{Action: "token revoked", Subject: t.Name})
	c.Status(http.StatusNoContent)
}

// audit answers who changed what.
func (s *Server) audit(c *gin.Context) {
	limit, ok := number(c, "limit", 100, 500)
	if !ok {
		return
	}
	before, ok := number(c, "before", 0, 1<<53)
	if !ok {
		return
	}
	page, err := s.Records.AuditPage(c.Request.Context(), token(c).RepositoryID, int64(before), limit)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, page)
}
