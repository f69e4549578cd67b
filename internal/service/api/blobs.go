package api

import (
	"archive/tar"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

func (s *Server) digests(c *gin.Context) ([]digest.Digest, bool) {
	var in protocol.Digests
	if !decode(c, &in) {
		return nil, false
	}
	if len(in.Digests) > protocol.MaxDigests {
		problem(c, http.StatusRequestEntityTooLarge, "too many digests in one request", fmt.Sprintf("at most %d are taken", protocol.MaxDigests))
		return nil, false
	}
	return in.Digests, true
}

func (s *Server) missing(c *gin.Context) {
	list, ok := s.digests(c)
	if !ok {
		return
	}
	out, err := s.Records.Missing(c.Request.Context(), token(c).RepositoryID, list)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, protocol.Digests{Digests: out})
}

func digestParam(c *gin.Context) (digest.Digest, bool) {
	d, err := digest.Parse(c.Param("digest"))
	if err != nil {
		problem(c, http.StatusBadRequest, "this is not a digest", err.Error())
	}
	return d, err == nil
}

// errMismatch and errLength say what is wrong with a body.
var (
	errMismatch = errors.New("the body is not what its digest says")
	errLength   = errors.New("the body is not as long as declared")
)

// mayWrite refuses blobs from a token that puts on no shelf.
func mayWrite(c *gin.Context) bool {
	if token(c).PutsOn == "" {
		problem(c, http.StatusForbidden, "this token may not write", fmt.Sprintf("the token %q puts on no shelf", token(c).Name))
		return false
	}
	return true
}

func (s *Server) putBlob(c *gin.Context) {
	d, ok := digestParam(c)
	if !ok || !mayWrite(c) {
		return
	}
	size := c.Request.ContentLength
	if size < 0 {
		problem(c, http.StatusLengthRequired, "the length of the body has to be declared", "")
		return
	}
	if size > protocol.MaxBlob {
		problem(c, http.StatusRequestEntityTooLarge, "the blob is too large", fmt.Sprintf("at most %d bytes are taken", int64(protocol.MaxBlob)))
		return
	}
	err := s.store(c, d, c.Request.Body, size)
	switch {
	case errors.Is(err, errMismatch), errors.Is(err, errLength):
		problem(c, http.StatusUnprocessableEntity, "the blob is refused", err.Error())
	case errors.Is(err, io.ErrUnexpectedEOF):
		problem(c, http.StatusBadRequest, "the body was cut off", "")
	case err != nil:
		s.fault(c, err)
	default:
		c.Status(http.StatusNoContent)
	}
}

// store keeps one blob, if it is what its digest says, under a name that no
// other upload uses.
func (s *Server) store(c *gin.Context, d digest.Digest, body io.Reader, size int64) error {
	var upload [8]byte
	_, _ = rand.Read(upload[:])
	repo := token(c).RepositoryID
	object := fmt.Sprintf("%d/%s/%s-%s", repo, d.String()[:2], d, hex.EncodeToString(upload[:]))
	r := &checked{r: body, h: digest.New(), want: d, left: size}
	if err := s.Blobs.Put(c.Request.Context(), object, r); err != nil {
		return err
	}
	s.metrics.moved.WithLabelValues("in").Add(float64(size))
	kept, err := s.Records.PutBlob(c.Request.Context(), repo, d, object, size)
	if err == nil && !kept {
		err = s.Blobs.Delete(c.Request.Context(), object)
	}
	return err
}

// checked yields a body as long as it is what was declared: an error in place
// of its end keeps a store from keeping it.
type checked struct {
	r    io.Reader
	h    hash.Hash
	want digest.Digest
	left int64
}

func (r *checked) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	r.h.Write(p[:n])
	if r.left -= int64(n); r.left < 0 {
		return 0, errLength
	}
	if errors.Is(err, io.EOF) {
		if r.left > 0 {
			return n, errLength
		}
		if digest.From(r.h) != r.want {
			return n, errMismatch
		}
	}
	return n, err
}

func (s *Server) getBlob(c *gin.Context) {
	d, ok := digestParam(c)
	if !ok {
		return
	}
	b, err := s.Records.Blob(c.Request.Context(), token(c).RepositoryID, d)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.Header("Content-Type", protocol.TypeBlob)
	c.Header("Content-Length", strconv.FormatInt(b.Size, 10))
	c.Header("Cache-Control", "private, immutable, max-age=31536000")
	if c.Request.Method == http.MethodHead {
		c.Status(http.StatusOK)
		return
	}
	r, err := s.Blobs.Open(c.Request.Context(), b.Object)
	if err != nil {
		c.Header("Content-Length", "")
		s.fault(c, err)
		return
	}
	defer r.Close()
	c.Status(http.StatusOK)
	n, _ := io.Copy(c.Writer, r)
	s.metrics.moved.WithLabelValues("out").Add(float64(n))
}

func (s *Server) putPack(c *gin.Context) {
	if !mayWrite(c) {
		return
	}
	body := io.Reader(http.MaxBytesReader(c.Writer, c.Request.Body, protocol.MaxPack))
	if c.GetHeader("Content-Encoding") == "zstd" {
		dec, err := zstd.NewReader(body, zstd.WithDecoderMaxMemory(64<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			problem(c, http.StatusBadRequest, "the body cannot be read", err.Error())
			return
		}
		defer dec.Close()
		body = dec
	}
	tr := tar.NewReader(io.LimitReader(body, protocol.MaxPack))
	answer := protocol.PackAnswer{Results: []protocol.PackResult{}}
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			// What came before the cut was verified, and stays.
			problem(c, http.StatusBadRequest, "the pack was cut off", fmt.Sprintf("%d members were taken: %v", len(answer.Results), err))
			return
		}
		d, err := digest.Parse(h.Name)
		if err != nil || h.Typeflag != tar.TypeReg {
			problem(c, http.StatusBadRequest, "a member of the pack is not named by a digest", h.Name)
			return
		}
		res := protocol.PackResult{Digest: d, OK: true}
		err = s.store(c, d, tr, h.Size)
		switch {
		case errors.Is(err, errMismatch), errors.Is(err, errLength):
			res.OK, res.Error = false, err.Error()
		case errors.Is(err, io.ErrUnexpectedEOF):
			problem(c, http.StatusBadRequest, "the pack was cut off", fmt.Sprintf("%d members were taken", len(answer.Results)))
			return
		case err != nil:
			s.fault(c, err)
			return
		}
		answer.Results = append(answer.Results, res)
	}
	c.JSON(http.StatusOK, answer)
}

// fetchPack streams what is there of the blobs asked for, in the order asked.
func (s *Server) fetchPack(c *gin.Context) {
	list, ok := s.digests(c)
	if !ok {
		return
	}
	have, err := s.Records.Blobs(c.Request.Context(), token(c).RepositoryID, list)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.Header("Content-Type", protocol.TypePack)
	out := io.Writer(c.Writer)
	if strings.Contains(c.GetHeader("Accept-Encoding"), "zstd") {
		c.Header("Content-Encoding", "zstd")
		enc, err := zstd.NewWriter(c.Writer, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
		if err != nil {
			s.fault(c, err)
			return
		}
		defer enc.Close()
		out = enc
	}
	c.Status(http.StatusOK)
	tw := tar.NewWriter(out)
	sent := map[digest.Digest]bool{}
	for _, d := range list {
		b, ok := have[d]
		if !ok || sent[d] {
			continue
		}
		sent[d] = true
		if err := s.member(c, tw, d, b); err != nil {
			s.Log.Warn("a pack was cut off", "error", err)
			panic(http.ErrAbortHandler) // the client sees a cut, not an end
		}
	}
	_ = tw.Close()
}

func (s *Server) member(c *gin.Context, tw *tar.Writer, d digest.Digest, b records.Blob) error {
	r, err := s.Blobs.Open(c.Request.Context(), b.Object)
	if err != nil {
		s.Log.Error("a blob is on record and not stored", "object", b.Object, "error", err)
		return nil // left out: the client takes it for gone
	}
	defer r.Close()
	if err := tw.WriteHeader(&tar.Header{Name: d.String(), Size: b.Size, Mode: 0o444, Format: tar.FormatUSTAR}); err != nil {
		return err
	}
	n, err := io.CopyN(tw, r, b.Size)
	s.metrics.moved.WithLabelValues("out").Add(float64(n))
	return err
}
