package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"os"
	"time"

	"github.com/gin-gonic/gin"
	gojson "github.com/goccy/go-json" // faster than encoding/json: lookups are large

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
)

// A body must keep arriving: at least a byte every idleLimit and, after slowGrace,
// slowestBody bytes per second on average. Whoever reads an answer must take
// slowestAnswer bytes per second.
const (
	idleLimit     = 10 * time.Second
	slowGrace     = 10 * time.Second
	slowestBody   = 2 << 10
	slowestAnswer = 16 << 10
	usualAnswer   = 4 << 20
)

// errSlow is returned for a body that arrives too slowly.
var errSlow = errors.New("the body arrives too slowly")

// steadyBody is a request's body that must keep arriving.
type steadyBody struct {
	io.ReadCloser
	control *http.ResponseController
	began   time.Time
	n       int64
	ended   bool
}

func (b *steadyBody) Read(p []byte) (int, error) {
	_ = b.control.SetReadDeadline(time.Now().Add(idleLimit)) // not supported by test recorders
	n, err := b.ReadCloser.Read(p)
	b.n += int64(n)
	switch late := time.Since(b.began) - slowGrace; {
	case err == nil && late > 0 && float64(b.n) < late.Seconds()*slowestBody, errors.Is(err, os.ErrDeadlineExceeded):
		return n, errSlow
	case err != nil:
		b.ended = true
		_ = b.control.SetReadDeadline(time.Time{}) // later reads only notice that the client is gone
	}
	return n, err
}

// keepSteady applies the limits to the body of a request, and to its answer
// until [Server.answerWithin] says how large that is.
func (s *Server) keepSteady(c *gin.Context) {
	control := http.NewResponseController(c.Writer)
	body := &steadyBody{ReadCloser: c.Request.Body, control: control, began: time.Now()}
	c.Request.Body = body
	answerWithin(c, 0)
	c.Next()
	if !body.ended && c.Request.ContentLength != 0 { // the server reads the rest, for a moment
		_ = control.SetReadDeadline(time.Now().Add(restLimit))
	}
}

// restLimit is how long the rest of a body is waited for that nobody reads.
const restLimit = time.Second

// answerWithin gives an answer with that many bytes enough time on a slow line.
// Reading and processing the request is part of the time.
func answerWithin(c *gin.Context, bytes int64) {
	asked := max(c.Request.ContentLength, 0)
	if c.Request.ContentLength < 0 {
		asked = protocol.MaxPack
	}
	seconds := asked/slowestBody + max(bytes, usualAnswer)/slowestAnswer
	_ = http.NewResponseController(c.Writer).SetWriteDeadline(time.Now().Add(2*slowGrace + time.Duration(seconds)*time.Second))
}

// Limits of JSON bodies in bytes. From largeBody on, a body counts as an upload.
const (
	smallBody  = 64 << 10
	largeBody  = 256 << 10
	lookupBody = 4 << 20
	digestBody = 1 << 20
	eventsBody = 8 << 20
)

// decode reads a JSON body of at most limit bytes, or answers with a problem.
func (s *Server) decode(c *gin.Context, limit int64, to any) bool {
	// A form of another site can send a browser's cookie, but not this type.
	kind, _, err := mime.ParseMediaType(c.GetHeader("Content-Type"))
	if (err != nil || kind != "application/json") && bearer(c.Request) == "" {
		problem(c, http.StatusUnsupportedMediaType, "the body must be JSON", "send Content-Type: application/json")
		return false
	}
	if limit > largeBody && (c.Request.ContentLength > largeBody || c.Request.ContentLength < 0) {
		free, ok := s.takeSlot(c)
		if !ok {
			return false
		}
		defer free()
	}
	text, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, limit))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		problem(c, http.StatusRequestEntityTooLarge, "the body is too large", fmt.Sprintf("at most %d bytes are allowed here", limit))
		return false
	case errors.Is(err, errSlow):
		problem(c, http.StatusRequestTimeout, errSlow.Error(), "")
		return false
	case err != nil:
		problem(c, http.StatusBadRequest, "the body cannot be read", err.Error())
		return false
	}
	done, ok := s.mayParse(c, int64(len(text))*jsonGrows)
	if !ok {
		return false
	}
	defer done()
	d := gojson.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(to); err != nil {
		problem(c, http.StatusBadRequest, "the body cannot be read", err.Error())
		return false
	}
	return true
}

// How much memory, in bytes, a byte of text may take once it is parsed, and how
// much all requests together may take.
const (
	jsonGrows    = 32
	listingGrows = 8
	parseBudget  = 512 << 20
	parseWait    = 5 * time.Second
)

// mayParse waits until there is memory to parse a text, or answers that there is
// none.
func (s *Server) mayParse(c *gin.Context, bytes int64) (done func(), ok bool) {
	bytes = min(bytes, parseBudget)
	ctx, cancel := context.WithTimeout(c.Request.Context(), parseWait)
	defer cancel()
	if s.limits.parsing.Acquire(ctx, bytes) != nil {
		s.metrics.http.limited.WithLabelValues("memory").Inc()
		later(c, parseWait, "too many large requests", "the service has no memory for another one now")
		return nil, false
	}
	return func() { s.limits.parsing.Release(bytes) }, true
}

// accept answers that a field has a wrong value, if err says so.
func accept(c *gin.Context, err error) bool {
	var wrong bounds.Error
	if errors.As(err, &wrong) {
		problem(c, http.StatusBadRequest, "a field has a wrong value", wrong.Error())
	}
	return err == nil
}

// cleanAddress refuses addresses with texts that no record can contain.
func (s *Server) cleanAddress(c *gin.Context) {
	if !accept(c, bounds.Text("the path", c.Request.URL.Path)) {
		return
	}
	for name, list := range c.Request.URL.Query() {
		for _, text := range append(list, name) {
			if !accept(c, bounds.Text("the parameter "+name, text)) {
				return
			}
		}
	}
}
