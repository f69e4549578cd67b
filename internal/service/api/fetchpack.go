package api

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"mime"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

func acceptsZstd(c *gin.Context) bool {
	return strings.Contains(c.GetHeader("Accept-Encoding"), "zstd")
}

// framesOf returns what a media type says of the frames of a pack.
func framesOf(header string) string {
	_, form, err := mime.ParseMediaType(header)
	if err != nil {
		return ""
	}
	return form["frames"]
}

// compressed returns a writer for the answer's body: compressed, if the client
// accepts that. Done ends it.
func compressed(c *gin.Context) (out io.Writer, done func(), err error) {
	if !acceptsZstd(c) {
		return c.Writer, func() {}, nil
	}
	c.Header("Content-Encoding", "zstd")
	enc, err := zstd.NewWriter(c.Writer, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	return enc, func() { enc.Close() }, err
}

// fetchPack streams the requested blobs that exist, in the order in which they are stored.
func (s *Server) fetchPack(c *gin.Context) {
	list, ok := s.digests(c)
	if !ok {
		return
	}
	plan, key, err := s.planPack(c, list)
	if err != nil {
		s.fault(c, err)
		return
	}
	answerWithin(c, plan.bytes)
	c.Header("Content-Type", protocol.TypePack)
	out := &outgoing{s: s, c: c, frames: acceptsZstd(c)}
	out.joined = out.frames && framesOf(c.GetHeader("Accept")) == protocol.Joined
	if out.frames {
		c.Header("Content-Encoding", "zstd")
	}
	err = out.send(plan.ranges)
	if out.lacked {
		s.packsKnown.forget(key)
	}
	if err != nil {
		if c.Request.Context().Err() == nil {
			s.Log.Warn("a pack was cut off", "error", err)
		}
		panic(http.ErrAbortHandler) // the client sees a cut, not an end
	}
}

// outgoing is a pack that is being sent: frames as they are stored, or, to a client that
// does not decompress, plain members.
type outgoing struct {
	s      *Server
	c      *gin.Context
	frames bool
	joined bool // the client reads frames with several members
	lacked bool // something was not where it should have been

	encoder *zstd.Encoder // of blobs that are not frames; nil: there was none yet
}

func (o *outgoing) send(ranges []packs.Range) error {
	o.c.Status(http.StatusOK)
	for _, r := range ranges {
		content, err := o.s.Blobs.Open(o.c.Request.Context(), r.Object, r.From, r.Length)
		if errors.Is(err, blobs.ErrNotExist) {
			// Left out: the client treats its blobs as missing.
			o.lacked = true
			o.s.Log.Error("blobs have records but no object", "object", r.Object, "blobs", len(r.Blobs), "error", err)
			continue
		}
		if err != nil {
			return err
		}
		err = o.sendRange(r, content)
		if cerr := content.Close(); err == nil {
			err = cerr
		}
		if err != nil {
			return err
		}
		for _, b := range r.Blobs {
			o.s.metrics.cache.sent.Add(float64(b.Size))
		}
	}
	end := pack.End()
	if !o.frames {
		end = make([]byte, 1024) // two blocks of zeros
	}
	_, err := o.c.Writer.Write(end)
	return err
}

func (o *outgoing) sendRange(r packs.Range, content io.Reader) error {
	if r.Blobs[0].Packed == 0 {
		return o.sendWhole(r.Blobs[0], content)
	}
	return r.Frames(content, func(list []records.Blob, frame []byte) error {
		// What was sent together is for the same shelf: who reads that may get all of it, which costs
		// far less than making the frame again. Others get only what they know the digests of.
		if o.joined && token(o.c).MayRead(list[0].Owner) && packs.Enough(list, frame) {
			_, err := o.c.Writer.Write(frame)
			return err
		}
		if o.frames && (o.joined || len(list) == 1) {
			_, only, err := packs.Only(list, frame)
			if err != nil {
				o.damaged(list[0], err)
				return nil
			}
			_, err = o.c.Writer.Write(only)
			return err
		}
		return o.sendMembers(list, frame)
	})
}

// sendMembers sends blobs of a frame, each alone.
func (o *outgoing) sendMembers(list []records.Blob, frame []byte) error {
	left := map[digest.Digest]records.Blob{}
	for _, b := range list {
		left[asDigest(b)] = b
	}
	texts, err := pack.Take(frame, func(d digest.Digest) bool { _, ok := left[d]; return ok })
	for _, m := range texts {
		delete(left, m.Digest)
		if o.frames {
			_, err = o.c.Writer.Write(pack.Join([]pack.Blob{m}))
		} else {
			err = member(o.c.Writer, m.Digest, int64(len(m.Text)), bytes.NewReader(m.Text))
		}
		if err != nil {
			return err
		}
	}
	for _, b := range left {
		o.damaged(b, errors.Join(err, pack.ErrDamaged))
	}
	return nil
}

// damaged notes that a blob is left out: the client treats it as missing.
func (o *outgoing) damaged(b records.Blob, err error) {
	o.lacked = true
	o.s.Log.Error("a blob is damaged", "object", b.Object, "byte", b.Position, "error", err)
}

// sendWhole sends a blob that is an object of its own.
func (o *outgoing) sendWhole(b records.Blob, content io.Reader) (err error) {
	to := io.Writer(o.c.Writer)
	if o.frames {
		if o.encoder == nil {
			o.encoder, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
			if err != nil {
				return err
			}
		}
		o.encoder.ResetContentSize(to, pack.Plain(b.Size)) // a frame states its size
		to = o.encoder
	}
	err = member(to, asDigest(b), b.Size, content)
	if o.frames {
		err = errors.Join(err, o.encoder.Close())
	}
	return err
}

// member writes a plain member.
func member(to io.Writer, d digest.Digest, size int64, content io.Reader) error {
	w := tar.NewWriter(to)
	if err := w.WriteHeader(pack.Header(d, size)); err != nil {
		return err
	}
	if _, err := io.CopyN(w, content, size); err != nil {
		return err
	}
	return w.Flush()
}
