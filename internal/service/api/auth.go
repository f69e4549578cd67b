package api

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

const (
	cookie   = "grayloft_session"
	tokenKey = "token"
)

func (s *Server) measure(c *gin.Context) {
	began := time.Now()
	c.Next()
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	s.metrics.http.requests.WithLabelValues(c.Request.Method, route, strconv.Itoa(c.Writer.Status())).Inc()
	s.metrics.http.seconds.WithLabelValues(c.Request.Method, route).Observe(time.Since(began).Seconds())
}

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
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "unknown token", "it is misspelled, revoked, or belongs to another service")
		return t, false
	case err != nil:
		s.fault(c, err)
		return t, false
	}
	return t, true
}

func secretOf(r *http.Request) string {
	if s, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return strings.TrimSpace(s)
	}
	if ck, err := r.Cookie(cookie); err == nil {
		return ck.Value
	}
	return ""
}

func (s *Server) authenticate(c *gin.Context) {
	t, ok := s.find(c, secretOf(c.Request))
	if !ok {
		return
	}
	if t.Repository != c.Param("repo") {
		problem(
			c,
			http.StatusForbidden,
			"this token is for another repository",
			fmt.Sprintf("it is for %q, but %q was requested", t.Repository, c.Param("repo")),
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

func selfOf(t records.Token) protocol.Self {
	return protocol.Self{
		Name: t.Name, Repo: t.Repository, WritesTo: t.WritesTo, ReadsFrom: append([]string{}, t.ReadsFrom...),
		View: t.MayView, Manage: t.MayManage, Expires: t.ExpiresAt,
	}
}

func (s *Server) self(c *gin.Context) { c.JSON(http.StatusOK, selfOf(token(c))) }

// rotateGrace is how long a token's previous secret stays valid after a
// rotation.
const rotateGrace = time.Hour

// rotate gives the calling token a new secret. Its expiry does not change.
func (s *Server) rotate(c *gin.Context) {
	secret, err := s.Records.Rotate(c.Request.Context(), token(c).ID, rotateGrace, nil)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, protocol.Rotated{Token: secret, OldUntil: time.Now().Add(rotateGrace).UTC().Truncate(time.Second)})
}

// signIn exchanges a token for a cookie that scripts cannot read.
func (s *Server) signIn(c *gin.Context) {
	var in struct {
		Token string `json:"token"`
	}
	if !decode(c, &in) {
		return
	}
	t, ok := s.find(c, strings.TrimSpace(in.Token))
	if !ok {
		return
	}
	if !t.MayView {
		problem(c, http.StatusForbidden, "this token does not have the right to view records", "use a token that was made with --view")
		return
	}
	s.setCookie(c, strings.TrimSpace(in.Token), 30*24*3600)
	c.JSON(http.StatusOK, selfOf(t))
}

func (s *Server) setCookie(c *gin.Context, value string, seconds int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: cookie, Value: value, Path: "/", MaxAge: seconds, HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteStrictMode,
	})
}

func (s *Server) session(c *gin.Context) {
	t, ok := s.find(c, secretOf(c.Request))
	if ok {
		c.JSON(http.StatusOK, selfOf(t))
	}
}

func (s *Server) signOut(c *gin.Context) {
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}
