package api

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

func (s *Server) digests(c *gin.Context) ([]digest.Digest, bool) {
	var in protocol.Digests
	if !s.decode(c, digestBody, &in) {
		return nil, false
	}
	if len(in.Digests) > protocol.MaxDigests {
		problem(
			c,
			http.StatusRequestEntityTooLarge,
			"too many digests in one request",
			fmt.Sprintf("at most %d are allowed", protocol.MaxDigests),
		)
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
	if err == nil && d.IsZero() {
		err = errors.New("the zero digest is not the digest of anything")
	}
	if err != nil {
		problem(c, http.StatusBadRequest, "this is not a digest", err.Error())
	}
	return d, err == nil
}

// errMismatch and errLength describe a wrong body.
var (
	errMismatch = errors.New("the body does not match its digest")
	errLength   = errors.New("the body does not have the declared length")
)

func (s *Server) putBlob(c *gin.Context) {
	d, ok := digestParam(c)
	if !ok {
		return
	}
	size := c.Request.ContentLength
	if size < 0 {
		problem(c, http.StatusLengthRequired, "the request must declare the length of its body", "")
		return
	}
	if size > protocol.MaxBlob {
		problem(
			c,
			http.StatusRequestEntityTooLarge,
			"the blob is too large",
			fmt.Sprintf("at most %d bytes are allowed", int64(protocol.MaxBlob)),
		)
		return
	}
	lack, err := s.Records.Missing(c.Request.Context(), token(c).RepositoryID, []digest.Digest{d})
	if err == nil && len(lack) == 0 { // stored once, and now leased
		_, err = io.Copy(io.Discard, io.LimitReader(c.Request.Body, size))
	} else if err == nil {
		err = s.receive(c, d, c.Request.Body, size)
	}
	if err != nil {
		s.refuseBody(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// refuseBody answers with the problem of an upload.
func (s *Server) refuseBody(c *gin.Context, err error) {
	var full fullError
	switch {
	case errors.As(err, &full):
		s.noRoom(c, full)
	case errors.Is(err, errMismatch), errors.Is(err, errLength):
		problem(c, http.StatusUnprocessableEntity, "the blob is refused", err.Error())
	case errors.Is(err, errSlow):
		problem(c, http.StatusRequestTimeout, errSlow.Error(), "")
	case errors.Is(err, io.ErrUnexpectedEOF):
		problem(c, http.StatusBadRequest, "the body was cut off", "")
	default:
		s.fault(c, err)
	}
}

// objectName returns a name for a new stored object, which no other upload
// uses.
func objectName(repository int64, d digest.Digest) string {
	var upload [8]byte
	_, _ = rand.Read(upload[:])
	return fmt.Sprintf("%d/%s/%s-%s", repository, d.String()[:2], d, hex.EncodeToString(upload[:]))
}

// newObject names an object for a blob that the caller uploads.
func newObject(c *gin.Context, d digest.Digest, size int64) records.Stored {
	t := token(c)
	return records.Stored{Digest: d, Object: objectName(t.RepositoryID, d), Size: size, Owner: t.WritesTo}
}

// receive reserves room for one blob, stores it if it matches its digest, and
// records it.
func (s *Server) receive(c *gin.Context, d digest.Digest, body io.Reader, size int64) error {
	room, err := s.reserve(c, size)
	if err != nil {
		return err
	}
	st := newObject(c, d, size)
	err = s.store(c, st, body)
	room.end(err == nil)
	if err == nil {
		s.metrics.cache.received.Add(float64(size))
	}
	return err
}

func (s *Server) store(c *gin.Context, st records.Stored, body io.Reader) error {
	ctx, repo := c.Request.Context(), token(c).RepositoryID
	if err := s.Records.Announce(ctx, repo, st); err != nil {
		return err
	}
	err := s.Blobs.Put(ctx, st.Object, &checked{r: body, h: digest.New(), want: st.Digest, left: st.Size})
	// From here on the end of the connection changes nothing: what is stored is
	// recorded, and what is not is deleted.
	ctx = context.WithoutCancel(ctx)
	if err == nil {
		err = s.Records.PutBlobs(ctx, repo, []records.Stored{st})
	}
	if err != nil {
		err = errors.Join(err, s.Records.Unannounce(ctx, st))
	}
	return err
}

// checked reads a body of exactly the declared length: instead of the end it
// returns an error if anything is wrong, so that nothing wrong is stored.
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
	b, err := s.blob(c, d)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.Header("Content-Type", protocol.TypeBlob)
	c.Header("Cache-Control", "private, immutable, max-age=31536000")
	c.Header("Accept-Ranges", "bytes")
	if c.Query("from") != "" {
		s.getPiece(c, b)
		return
	}
	answerWithin(c, b.Size)
	content := &seekable{size: b.Size, open: func(from int64) (r io.ReadCloser, err error) {
		err = s.openBlob(c, d, func(b records.Blob) error {
			r, err = packs.Open(c.Request.Context(), s.Blobs, b, from, b.Size-from)
			return err
		})
		return r, err
	}}
	defer content.close()
	if c.Request.Method != http.MethodHead {
		if err := content.begin(); err != nil {
			s.fault(c, err)
			return
		}
	}
	// Without the framework's writer, files are sent without copying.
	out := http.ResponseWriter(c.Writer)
	if w, ok := out.(interface{ Unwrap() http.ResponseWriter }); ok {
		out = w.Unwrap()
	}
	count := &countingWriter{ResponseWriter: out, head: c.Writer}
	defer cork(c.Request.Context())()
	http.ServeContent(count, c.Request, "", time.Time{}, content)
	s.metrics.cache.sent.Add(float64(count.n))
}

func asDigest(b records.Blob) digest.Digest {
	d, _ := digest.FromBytes(b.Digest)
	return d
}

// getPiece sends some bytes of a blob, compressed if the client accepts that:
// unlike a range, a piece is a representation of its own that can have an
// encoding.
func (s *Server) getPiece(c *gin.Context, b records.Blob) {
	from, ferr := strconv.ParseInt(c.Query("from"), 10, 64)
	length, lerr := strconv.ParseInt(c.Query("length"), 10, 64)
	if ferr != nil || lerr != nil || from < 0 || length < 1 || from >= b.Size {
		problem(c, http.StatusBadRequest, "the blob has no such piece", fmt.Sprintf("it has %d bytes", b.Size))
		return
	}
	length = min(length, b.Size-from)
	answerWithin(c, length)
	var r io.ReadCloser
	err := s.openBlob(c, asDigest(b), func(b records.Blob) (err error) {
		r, err = packs.Open(c.Request.Context(), s.Blobs, b, from, length)
		return err
	})
	if err != nil {
		s.fault(c, err)
		return
	}
	defer r.Close()
	out, done, err := compressed(c)
	if err != nil {
		s.fault(c, err)
		return
	}
	defer done()
	if out == io.Writer(c.Writer) {
		c.Header("Content-Length", strconv.FormatInt(length, 10))
	}
	c.Status(http.StatusOK)
	n, _ := io.Copy(out, r)
	s.metrics.cache.sent.Add(float64(n))
	if n != length {
		panic(http.ErrAbortHandler) // the client sees a cut, not an end
	}
}
