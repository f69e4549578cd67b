package api

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

const (
	batchBlobs = 128     // members of a pack that are stored at a time
	batchBytes = 8 << 20 // their total bytes
	storing    = 16      // members stored in parallel
)

// batch is a set of verified members of a pack.
type batch struct {
	list  []records.Stored
	texts [][]byte
	bytes int64
}

// keep stores the batch, and records it once all of it is on disk.
func (s *Server) keep(c *gin.Context, b *batch) error {
	if len(b.list) == 0 {
		return nil
	}
	ctx, repo := c.Request.Context(), token(c).RepositoryID
	names := make([]string, len(b.list))
	for i := range b.list {
		names[i] = b.list[i].Object
	}
	if err := s.Records.Announce(ctx, repo, names...); err != nil {
		return err
	}
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(storing)
	for i := range b.list {
		g.Go(func() error { return s.Blobs.Put(inner, b.list[i].Object, bytes.NewReader(b.texts[i])) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if err := s.Records.PutBlobs(ctx, repo, b.list); err != nil {
		return err
	}
	s.metrics.cache.received.Add(float64(b.bytes))
	s.took(repo, b.bytes)
	*b = batch{}
	return nil
}

func (s *Server) putPack(c *gin.Context) {
	if !mayWrite(c) || !s.room(c, max(0, c.Request.ContentLength)) {
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
	var b batch
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			s.cutOff(c, &b, answer, err)
			return
		}
		res, err := s.takeMember(c, tr, h, &b)
		switch {
		case errors.Is(err, errName):
			problem(c, http.StatusBadRequest, "a member of the pack is not named by a digest", h.Name)
			return
		case errors.Is(err, io.ErrUnexpectedEOF):
			s.cutOff(c, &b, answer, err)
			return
		case err != nil:
			s.fault(c, err)
			return
		}
		answer.Results = append(answer.Results, res)
	}
	if err := s.keep(c, &b); err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, answer)
}

// cutOff stores what arrived before the cut, which was verified, and says so.
func (s *Server) cutOff(c *gin.Context, b *batch, answer protocol.PackAnswer, cause error) {
	if err := s.keep(c, b); err != nil {
		s.fault(c, err)
		return
	}
	problem(c, http.StatusBadRequest, "the pack was cut off", fmt.Sprintf("%d members were stored: %v", len(answer.Results), cause))
}

var errName = errors.New("its name is not a digest")

// takeMember reads one member. Small ones are collected and stored together.
func (s *Server) takeMember(c *gin.Context, tr *tar.Reader, h *tar.Header, b *batch) (protocol.PackResult, error) {
	d, err := digest.Parse(h.Name)
	res := protocol.PackResult{Digest: d, OK: true}
	if err != nil || h.Typeflag != tar.TypeReg {
		return res, errName
	}
	refuse := func(err error) (protocol.PackResult, error) {
		if errors.Is(err, errMismatch) || errors.Is(err, errLength) {
			res.OK, res.Error = false, err.Error()
			return res, nil
		}
		return res, err
	}
	if h.Size > batchBytes {
		st, err := s.store(c, d, tr, h.Size)
		if err == nil {
			err = s.Records.PutBlobs(c.Request.Context(), token(c).RepositoryID, []records.Stored{st})
		}
		return refuse(err)
	}
	text, err := io.ReadAll(&checked{r: tr, h: digest.New(), want: d, left: h.Size})
	if err != nil {
		return refuse(err)
	}
	b.list = append(b.list, records.Stored{Digest: d, Object: objectName(token(c).RepositoryID, d), Size: h.Size})
	b.texts = append(b.texts, text)
	if b.bytes += h.Size; len(b.list) == batchBlobs || b.bytes >= batchBytes {
		return res, s.keep(c, b)
	}
	return res, nil
}

// compressed returns a writer for the answer's body: compressed, if the client
// accepts that. Done ends it.
func compressed(c *gin.Context) (out io.Writer, done func(), err error) {
	if !strings.Contains(c.GetHeader("Accept-Encoding"), "zstd") {
		return c.Writer, func() {}, nil
	}
	c.Header("Content-Encoding", "zstd")
	enc, err := zstd.NewWriter(c.Writer, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	return enc, func() { enc.Close() }, err
}

// fetchPack streams the requested blobs that exist, in the requested order.
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
	out, done, err := compressed(c)
	if err != nil {
		s.fault(c, err)
		return
	}
	defer done()
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
	r, err := s.Blobs.Open(c.Request.Context(), b.Object, 0, b.Size)
	if err != nil {
		s.Log.Error("a blob has a record but no object", "object", b.Object, "error", err)
		return nil // left out: the client treats it as missing
	}
	defer r.Close()
	if err := tw.WriteHeader(&tar.Header{Name: d.String(), Size: b.Size, Mode: 0o444, Format: tar.FormatUSTAR}); err != nil {
		return err
	}
	n, err := io.CopyN(tw, r, b.Size)
	s.metrics.cache.sent.Add(float64(n))
	return err
}
