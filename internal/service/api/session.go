package api

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// pageHeader carries the secret that only the page knows: not in a cookie, so
// neither another site nor another port of this host can send it.
const pageHeader = "X-Page-Token"

// cookieName is the name of the session's cookie. Under TLS its prefix makes the
// browser refuse one that another host, or a page without TLS, has set
// (draft-ietf-httpbis-rfc6265bis, 4.1.3.2).
func (s *Server) cookieName() string {
	if s.Secure {
		return "__Host-grayloft"
	}
	return "grayloft_session"
}

// sessionOf returns the session that a request belongs to.
func (s *Server) sessionOf(r *http.Request) (records.Session, bool) {
	ck, err := r.Cookie(s.cookieName())
	if err != nil || ck.Value == "" {
		return records.Session{}, false
	}
	return records.Session{ID: ck.Value, Page: r.Header.Get(pageHeader)}, true
}

func isReading(method string) bool { return method == http.MethodGet || method == http.MethodHead }

// knownSession is what is remembered of a session.
type knownSession struct {
	token records.Token
	page  bool // the page's secret is right
}

// bySession returns the token of a session. Without the page's secret a session
// may only read.
func (s *Server) bySession(c *gin.Context, in records.Session) (records.Token, bool) {
	ctx := context.WithoutCancel(c.Request.Context()) // another request may be waiting for the same answer
	known, err := s.sessionsKnown.get(in, func() (knownSession, error) {
		t, page, err := s.Records.FindSession(ctx, in)
		return knownSession{t, page}, err
	})
	switch {
	case errors.Is(err, records.ErrNotExist), errors.Is(err, records.ErrExpired):
		s.noteFailure(c)
		problem(c, http.StatusUnauthorized, "the session has ended", "sign in again")
		return records.Token{}, false
	case err != nil:
		s.fault(c, err)
		return records.Token{}, false
	case !isReading(c.Request.Method) && (!known.page || !fromThisSite(c.Request)):
		problem(c, http.StatusForbidden, "this request did not come from the console's page", "sign in again")
		return records.Token{}, false
	}
	return known.token, true
}

// fromThisSite tells whether a request of a browser comes from a page of this
// service. Requests that are not a browser's have neither header.
func fromThisSite(r *http.Request) bool {
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		return false
	}
	origin := r.Header.Get("Origin")
	if origin == "" {
		return true
	}
	u, err := url.Parse(origin)
	return err == nil && u.Host == r.Host
}

// signIn exchanges a token for a session. The cookie alone may only read; the
// page keeps the other secret.
func (s *Server) signIn(c *gin.Context) {
	if !fromThisSite(c.Request) {
		problem(c, http.StatusForbidden, "this request did not come from the console's page", "")
		return
	}
	var in struct {
		Token string `json:"token"`
	}
	if !s.decode(c, smallBody, &in) {
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
	session, err := s.Records.NewSession(c.Request.Context(), t)
	if err != nil {
		s.fault(c, err)
		return
	}
	s.setCookie(c, session.ID, int(records.SessionFor.Seconds()))
	self, err := s.visitor(c, t)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, protocol.SignedIn{Self: self, PageToken: session.Page})
}

func (s *Server) setCookie(c *gin.Context, value string, seconds int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: s.cookieName(), Value: value, Path: "/", MaxAge: seconds, HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteStrictMode,
	})
}

func (s *Server) session(c *gin.Context) {
	t, ok := s.caller(c)
	if !ok {
		return
	}
	self, err := s.visitor(c, t)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, self)
}

// visitor describes the token of a session, and the records that it will see.
func (s *Server) visitor(c *gin.Context, t records.Token) (self protocol.Self, err error) {
	self = selfOf(t)
	self.Generated, err = s.Records.HasGenerated(c.Request.Context(), t.RepositoryID)
	return self, err
}

// signOut ends the session. It needs no more than the cookie: whoever has that
// can end only this session.
func (s *Server) signOut(c *gin.Context) {
	if !fromThisSite(c.Request) {
		problem(c, http.StatusForbidden, "this request did not come from the console's page", "")
		return
	}
	if session, ok := s.sessionOf(c.Request); ok {
		if err := s.Records.EndSession(c.Request.Context(), session); err != nil {
			s.fault(c, err)
			return
		}
		s.sessionsKnown.clear()
	}
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}
