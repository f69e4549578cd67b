package api

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

const tokenKey = "token"

// find returns the token with a secret, or answers with a problem.
func (s *Server) find(c *gin.Context, secret string) (records.Token, bool) {
	if secret == "" {
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "a token is required", "send Authorization: Bearer, or sign in to the console")
		return records.Token{}, false
	}
	t, err := s.tokenOf(c.Request.Context(), secret)
	switch {
	case errors.Is(err, records.ErrExpired):
		c.Header("WWW-Authenticate", "Bearer")
		problem(
			c,
			http.StatusUnauthorized,
			"this token has expired",
			fmt.Sprintf("the token %q expired on %s: ask for a new one", t.Name, t.ExpiresAt.Format(time.DateOnly)),
		)
		return t, false
	case errors.Is(err, records.ErrNotExist):
		s.noteFailure(c)
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "unknown token", "it is misspelled, revoked, or belongs to another service")
		return t, false
	case err != nil:
		s.fault(c, err)
		return t, false
	}
	return t, true
}

func bearer(r *http.Request) string {
	secret, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return strings.TrimSpace(secret)
}

// caller returns the token of whoever sent a request, by its secret or by a
// session of the console, or answers with a problem.
func (s *Server) caller(c *gin.Context) (records.Token, bool) {
	if secret := bearer(c.Request); secret != "" {
		if s.isGuessing(c, secret) {
			return records.Token{}, false
		}
		t, ok := s.find(c, secret)
		if ok {
			s.noteRight(secret)
		}
		return t, ok
	}
	if session, ok := s.sessionOf(c.Request); ok {
		if s.isGuessing(c, session.ID) {
			return records.Token{}, false
		}
		t, ok := s.bySession(c, session)
		if ok {
			s.noteRight(session.ID)
		}
		return t, ok
	}
	return s.find(c, "")
}

func (s *Server) authenticate(c *gin.Context) {
	t, ok := s.caller(c)
	if !ok {
		return
	}
	if t.Repository != c.Param("repo") {
		problem(
			c,
			http.StatusForbidden,
			"this token is for another repository",
			fmt.Sprintf("this token is for the repository %q, not for %q", t.Repository, c.Param("repo")),
		)
		return
	}
	c.Set(tokenKey, t)
}

func token(c *gin.Context) records.Token { return c.MustGet(tokenKey).(records.Token) }

func (s *Server) requireView(c *gin.Context) {
	if !token(c).MayView {
		problem(c, http.StatusForbidden, "this token does not have the right to view records", "use a token that was made with --view")
	}
}

// requireWrite refuses everything that stores something from a token that writes
// to no shelf.
func (s *Server) requireWrite(c *gin.Context) {
	if token(c).WritesTo == "" {
		problem(
			c,
			http.StatusForbidden,
			"this token does not have the right to write",
			fmt.Sprintf("the token %q writes to no shelf", token(c).Name),
		)
	}
}

func selfOf(t records.Token) protocol.Self {
	if t.JobID != nil {
		t.ExpiresAt = nil // it ends with its job
	}
	return protocol.Self{
		ID: t.ID, Name: t.Name, Repo: t.Repository, WritesTo: t.WritesTo, ReadsFrom: append([]string{}, t.ReadsFrom...),
		View: t.MayView, Manage: t.MayManage, Request: t.MayRequest, Serves: append([]string{}, t.Serves...), Expires: t.ExpiresAt,
	}
}

func (s *Server) self(c *gin.Context) { c.JSON(http.StatusOK, selfOf(token(c))) }

// rotateGrace is how long a token's previous secret stays valid after a
// rotation.
const rotateGrace = time.Hour

// rotate gives the calling token a new secret. Its expiry does not change. A
// previous secret, which may have leaked, cannot do it: it would outlive its
// owner's.
func (s *Server) rotate(c *gin.Context) {
	secret := bearer(c.Request)
	if secret == "" || !token(c).Current {
		problem(c, http.StatusForbidden, "only the current secret can be rotated", "this one was rotated out: use the new one")
		return
	}
	fresh, err := s.Records.Rotate(c.Request.Context(), token(c).ID, records.Rotation{Current: secret, Grace: rotateGrace})
	if errors.Is(err, records.ErrNotExist) {
		problem(c, http.StatusForbidden, "only the current secret can be rotated", "it was rotated at the same moment")
		return
	}
	if err != nil {
		s.fault(c, err)
		return
	}
	s.tokensKnown.clear()
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, protocol.Rotated{Token: fresh, OldUntil: time.Now().Add(rotateGrace).UTC().Truncate(time.Second)})
}
