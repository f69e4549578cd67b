package api

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
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

// batch is a set of verified members of a pack, with the room that is reserved
// for them.
type batch struct {
	list  []records.Stored
	texts [][]byte
	rooms []*reservation
	bytes int64
}

// end ends the reservations of a batch.
func (b *batch) end(stored bool) {
	for _, r := range b.rooms {
		r.end(stored)
	}
	*b = batch{}
}

// keep stores the batch, and records it once all of it is on disk.
func (s *Server) keep(c *gin.Context, b *batch) error {
	if len(b.list) == 0 {
		return nil
	}
	bytes := b.bytes
	err := s.keepNew(c, b)
	b.end(err == nil)
	if err == nil {
		s.metrics.cache.received.Add(float64(bytes))
	}
	return err
}

// keepNew stores the members that the repository does not have, and leases the
// others.
func (s *Server) keepNew(c *gin.Context, b *batch) error {
	ctx, repo := c.Request.Context(), token(c).RepositoryID
	all := make([]digest.Digest, len(b.list))
	for i := range b.list {
		all[i] = b.list[i].Digest
	}
	lack, err := s.Records.Missing(ctx, repo, all)
	if err != nil || len(lack) == 0 {
		return err
	}
	var list []records.Stored
	var texts [][]byte
	for i := range b.list {
		if n := slices.Index(lack, b.list[i].Digest); n >= 0 {
			lack = slices.Delete(lack, n, n+1) // a member that is there twice is stored once
			list, texts = append(list, b.list[i]), append(texts, b.texts[i])
		}
	}
	if err := s.Records.Announce(ctx, repo, list...); err != nil {
		return err
	}
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(storing)
	for i := range list {
		g.Go(func() error { return s.Blobs.Put(inner, list[i].Object, bytes.NewReader(texts[i])) })
	}
	err = g.Wait()
	ctx = context.WithoutCancel(ctx)
	if err == nil {
		err = s.Records.PutBlobs(ctx, repo, slices.Clone(list))
	}
	if err != nil {
		err = errors.Join(err, s.Records.Withdraw(ctx, list...))
	}
	return err
}

// pack reads the members of a pack within the limits.
type pack struct {
	tar  *tar.Reader
	left int64 // bytes that the members may still have
}

// Errors of packs.
var (
	errName   = errors.New("its name is not a digest")
	errMember = errors.New("only plain ustar members are allowed, without extensions")
	errLarge  = errors.New("it is too large")
)

// next returns the next member, or what is wrong with it, before any of it is
// read.
func (p *pack) next() (d digest.Digest, size int64, err error) {
	h, err := p.tar.Next()
	if err != nil {
		return d, 0, err
	}
	d, err = digest.Parse(h.Name)
	switch {
	case h.Format != tar.FormatUSTAR || h.Typeflag != tar.TypeReg || len(h.PAXRecords) > 0:
		return d, 0, fmt.Errorf("%w: %.80q", errMember, h.Name)
	case err != nil || d.IsZero():
		return d, 0, fmt.Errorf("%w: %.80q", errName, h.Name)
	case h.Size > protocol.PackedBlob:
		return d, 0, fmt.Errorf("%w: the member %s has %d bytes; at most %d are allowed", errLarge, d.Short(), h.Size, protocol.PackedBlob)
	case h.Size > p.left:
		return d, 0, fmt.Errorf("%w: its members have more than %d bytes together", errLarge, protocol.MaxPack)
	}
	p.left -= h.Size
	return d, h.Size, nil
}

// openPack returns the members of a request's pack. Done ends it.
func openPack(c *gin.Context) (p *pack, done func(), err error) {
	body := io.Reader(http.MaxBytesReader(c.Writer, c.Request.Body, protocol.MaxPack))
	done = func() {}
	if c.GetHeader("Content-Encoding") == "zstd" {
		dec, err := zstd.NewReader(body, zstd.WithDecoderMaxMemory(packMemory), zstd.WithDecoderMaxWindow(packMemory),
			zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, done, err
		}
		done, body = dec.Close, dec
	}
	// The headers of members take room as well.
	return &pack{tar.NewReader(io.LimitReader(body, protocol.MaxPack+protocol.MaxPack/4)), protocol.MaxPack}, done, nil
}

// packMemory is how many bytes decompressing a pack may take.
const packMemory = 16 << 20

func (s *Server) putPack(c *gin.Context) {
	p, done, err := openPack(c)
	if err != nil {
		problem(c, http.StatusBadRequest, "the body cannot be read", err.Error())
		return
	}
	defer done()
	answer := protocol.PackAnswer{Results: []protocol.PackResult{}}
	var b batch
	for {
		res, err := s.takeMember(c, p, &b)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			s.cutOff(c, &b, answer, err)
			return
		}
		answer.Results = append(answer.Results, res)
	}
	if err := s.keep(c, &b); err != nil {
		s.refuseBody(c, err)
		return
	}
	c.JSON(http.StatusOK, answer)
}

// cutOff stores what arrived before an error, which was verified, and says what
// was wrong.
func (s *Server) cutOff(c *gin.Context, b *batch, answer protocol.PackAnswer, cause error) {
	if err := s.keep(c, b); err != nil {
		s.refuseBody(c, err)
		return
	}
	var full fullError
	var large *http.MaxBytesError
	switch {
	case errors.As(cause, &full), errors.Is(cause, errSlow):
		s.refuseBody(c, cause)
	case errors.Is(cause, errName):
		problem(c, http.StatusBadRequest, "a member of the pack is not named by a digest", cause.Error())
	case errors.Is(cause, errMember):
		problem(c, http.StatusBadRequest, "the pack is refused", cause.Error())
	case errors.Is(cause, errLarge), errors.As(cause, &large):
		problem(c, http.StatusRequestEntityTooLarge, "the pack is too large", cause.Error())
	default:
		problem(c, http.StatusBadRequest, "the pack was cut off", fmt.Sprintf("%d members were stored: %v", len(answer.Results), cause))
	}
}

// takeMember reads one member, after room for it is reserved. Members are
// collected and stored together. After the last one the error is [io.EOF].
func (s *Server) takeMember(c *gin.Context, p *pack, b *batch) (protocol.PackResult, error) {
	d, size, err := p.next()
	if err != nil {
		return protocol.PackResult{}, err
	}
	room, err := s.reserve(c, size)
	if err != nil {
		return protocol.PackResult{}, err
	}
	text, err := io.ReadAll(&checked{r: p.tar, h: digest.New(), want: d, left: size})
	switch {
	case errors.Is(err, errMismatch), errors.Is(err, errLength):
		room.end(false)
		return protocol.PackResult{Digest: d, Error: err.Error()}, nil
	case err != nil:
		room.end(false)
		return protocol.PackResult{}, err
	}
	b.list, b.texts, b.rooms = append(b.list, newObject(c, d, size)), append(b.texts, text), append(b.rooms, room)
	if b.bytes += size; len(b.list) == batchBlobs || b.bytes >= batchBytes {
		return protocol.PackResult{Digest: d, OK: true}, s.keep(c, b)
	}
	return protocol.PackResult{Digest: d, OK: true}, nil
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
	total := int64(0)
	for _, b := range have {
		total += b.Size
	}
	answerWithin(c, total)
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
