package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

// assemble stores a large blob from its pieces, which were uploaded as blobs of
// their own.
func (s *Server) assemble(c *gin.Context) {
	d, ok := digestParam(c)
	var in protocol.Assembly
	if !ok || !s.decode(c, digestBody, &in) {
		return
	}
	if len(in.Pieces) > protocol.MaxPieces || in.Size > protocol.MaxBlob || in.Size < 1 {
		problem(
			c,
			http.StatusRequestEntityTooLarge,
			"the blob cannot be assembled",
			fmt.Sprintf("at most %d pieces and %d bytes are allowed", protocol.MaxPieces, int64(protocol.MaxBlob)),
		)
		return
	}
	have, err := s.Records.Blobs(c.Request.Context(), token(c).RepositoryID, in.Pieces)
	if err != nil {
		s.fault(c, err)
		return
	}
	pieces, missing := inOrder(in.Pieces, have)
	if len(missing) > 0 {
		answerProblem(c, protocol.Problem{Type: "about:blank", Title: "pieces are missing", Status: http.StatusConflict,
			Detail: fmt.Sprintf("%d of %d", len(missing), len(in.Pieces)), Missing: missing})
		return
	}
	if !fits(pieces, in.Size) {
		problem(c, http.StatusUnprocessableEntity, "the blob cannot be assembled", errLength.Error())
		return
	}
	answerWithin(c, in.Size)
	// It can take longer than a client waits for an answer to begin.
	stored := make(chan error, 1)
	go func() { stored <- s.assembleFrom(c, d, in, pieces) }()
	c.Header("Content-Type", "application/json")
	c.Status(http.StatusOK)
	err = keepAlive(c.Writer, stored)
	answer := protocol.PackResult{Digest: d, OK: err == nil}
	if err != nil {
		answer.Error = s.assemblyError(c, err)
	}
	_ = json.NewEncoder(c.Writer).Encode(answer)
}

// assemblyError is the part of an error that concerns the client.
func (s *Server) assemblyError(c *gin.Context, err error) string {
	var full fullError
	switch {
	case errors.Is(err, errMismatch), errors.Is(err, errLength), errors.Is(err, records.ErrTooLate), errors.As(err, &full):
		return err.Error()
	case errors.Is(err, blobs.ErrNotExist):
		return "a piece was deleted: send it again"
	}
	s.logFault(c, err)
	return "the service cannot do this now; try again later"
}

// aliveInterval is how often something is sent while the answer is being made.
const aliveInterval = 2 * time.Second

// keepAlive sends spaces, which JSON ignores, until the result arrives.
func keepAlive(w gin.ResponseWriter, result <-chan error) error {
	tick := time.NewTicker(aliveInterval)
	defer tick.Stop()
	for {
		select {
		case err := <-result:
			return err
		case <-tick.C:
			_, _ = io.WriteString(w, " ") // if the client is gone, its request ends
			w.Flush()
		}
	}
}

// inOrder returns the pieces as they were listed, or those that do not exist.
func inOrder(list []digest.Digest, have map[digest.Digest]records.Blob) (pieces []records.Blob, missing []digest.Digest) {
	for _, d := range list {
		if b, ok := have[d]; ok {
			pieces = append(pieces, b)
		} else {
			missing = append(missing, d)
		}
	}
	return pieces, missing
}

// fits tells whether pieces have so many bytes together.
func fits(pieces []records.Blob, size int64) bool {
	for _, b := range pieces {
		size -= b.Size
	}
	return size == 0
}

// assembleFrom stores the concatenation of pieces, if it matches the digest. The
// pieces are then left to the cleanup.
func (s *Server) assembleFrom(c *gin.Context, d digest.Digest, in protocol.Assembly, pieces []records.Blob) error {
	ctx := c.Request.Context()
	body := &concatenation{ctx: ctx, from: s.Blobs, left: pieces}
	defer body.close()
	if err := s.receive(c, d, body, in.Size); err != nil {
		return err
	}
	return s.Records.EndLeases(ctx, token(c).RepositoryID, in.Pieces)
}

// concatenation reads objects one after another.
type concatenation struct {
	ctx  context.Context
	from blobs.Store
	left []records.Blob
	now  io.ReadCloser
}

func (r *concatenation) Read(p []byte) (int, error) {
	for {
		if r.now == nil {
			if len(r.left) == 0 {
				return 0, io.EOF
			}
			var err error
			if r.now, err = packs.Open(r.ctx, r.from, r.left[0], 0, r.left[0].Size); err != nil {
				return 0, err
			}
			r.left = r.left[1:]
		}
		n, err := r.now.Read(p)
		if errors.Is(err, io.EOF) {
			r.close()
			err = nil
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}

func (r *concatenation) close() {
	if r.now != nil {
		r.now.Close()
		r.now = nil
	}
}
