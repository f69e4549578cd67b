package api

import (
	"context"
	"errors"
	"net/http"
	"runtime/debug"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/records"
)

const requestKey = "request"

// name gives a request an id, which is in the answer and in the log.
func (s *Server) name(c *gin.Context) {
	id := uuid.NewString()
	c.Set(requestKey, id)
	c.Header("X-Request-Id", id)
}

// problem answers with an RFC 9457 document.
func problem(c *gin.Context, status int, title, detail string) {
	answerProblem(c, protocol.Problem{Type: "about:blank", Title: title, Status: status, Detail: detail})
}

func answerProblem(c *gin.Context, p protocol.Problem) {
	p.Instance = "urn:uuid:" + c.GetString(requestKey)
	c.Header("Content-Type", protocol.TypeProblem)
	c.AbortWithStatusJSON(p.Status, p)
}

// PostgreSQL's classes of errors about values (its documentation, appendix A).
const (
	classData       = "22" // a value that a column cannot hold
	classConstraint = "23" // a value that a rule forbids

	codeCanceled = "57014" // the statement's time limit is over
)

// isOverTime tells whether the database ended a statement that took too long.
func isOverTime(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == codeCanceled
}

// isWrongValue tells whether the database refused a value that the client sent.
func isWrongValue(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (strings.HasPrefix(pg.Code, classData) || strings.HasPrefix(pg.Code, classConstraint))
}

// fault answers with the problem for an error of records or blobs.
func (s *Server) fault(c *gin.Context, err error) {
	switch {
	case errors.Is(err, records.ErrNotExist), errors.Is(err, blobs.ErrNotExist):
		problem(c, http.StatusNotFound, "not found", err.Error())
	case errors.Is(err, records.ErrTooLate):
		problem(c, http.StatusConflict, "the upload was not stored", err.Error())
	case errors.Is(err, context.Canceled):
		problem(c, 499, "the client closed the connection", "")
	case isWrongValue(err):
		s.logFault(c, err)
		problem(c, http.StatusUnprocessableEntity, "the request has a value that cannot be stored", "see the service's log for which one")
	case isOverTime(err):
		s.logFault(c, err)
		problem(c, http.StatusServiceUnavailable, "the database takes too long to answer this",
			"ask for less, such as a shorter time; see the service's log")
	default:
		s.logFault(c, err)
		problem(c, http.StatusServiceUnavailable, "the service cannot do this now", "see the service's log for the reason; try again later")
	}
}

func (s *Server) logFault(c *gin.Context, err error) {
	s.Log.Error("request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "request", c.GetString(requestKey), "error", err)
}

func (s *Server) recover(c *gin.Context) {
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler {
				panic(p)
			}
			s.Log.Error("request panicked", "method", c.Request.Method, "path", c.Request.URL.Path, "request", c.GetString(requestKey),
				"panic", p, "stack", string(debug.Stack()))
			problem(c, http.StatusInternalServerError, "the service failed", "see the service's log")
		}
	}()
	c.Next()
}

// secureHeaders says what a browser must not do with answers
// (https://www.rfc-editor.org/rfc/rfc6797 for the last one).
func (s *Server) secureHeaders(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	if s.Secure {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
}
