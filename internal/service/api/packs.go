package api

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"slices"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

const (
	batchBlobs = 1000    // members of a pack that are looked up at a time
	batchBytes = 8 << 20 // their total bytes
	ownObject  = 256 << 10
)

// incoming is a pack that arrives. Its members are stored as frames of a pack object;
// those of more than [ownObject] bytes are objects of their own.
type incoming struct {
	s     *Server
	c     *gin.Context
	batch []arrived // verified, and not stored yet
	bytes int64     // of the batch

	object *packs.Object // nil: nothing was stored since the last one
	list   []records.Stored
	rooms  []*reservation
	size   int64                  // bytes of blobs in list
	has    map[digest.Digest]bool // what was stored by this request
	fault  error                  // of the storage or the records
}

// arrived is a verified member with the room that is reserved for it.
type arrived struct {
	digest digest.Digest
	size   int64
	text   []byte // nil: only its frame is kept
	frame  *frame // nil: it has to be made
	room   *reservation
}

// store stores the members of the batch that the repository does not have, and leases the
// others.
func (in *incoming) store() error {
	batch := in.batch
	if in.batch, in.bytes = nil, 0; len(batch) == 0 {
		return nil
	}
	all := make([]digest.Digest, len(batch))
	for i := range batch {
		all[i] = batch[i].digest
	}
	lack, err := in.s.Records.Missing(in.c.Request.Context(), token(in.c).RepositoryID, all)
	lacks := map[digest.Digest]bool{}
	for _, d := range lack {
		lacks[d] = !in.has[d]
	}
	var fresh []arrived
	for _, a := range batch {
		if err != nil || !lacks[a.digest] { // a member that is there twice is stored once
			a.room.end(false)
			continue
		}
		delete(lacks, a.digest)
		fresh = append(fresh, a)
	}
	if err != nil {
		return err
	}
	return in.add(fresh)
}

// add stores new members. Their rows are recorded by [incoming.finish].
func (in *incoming) add(fresh []arrived) error {
	var large, small []arrived
	for _, a := range fresh {
		in.rooms = append(in.rooms, a.room)
		if a.size > ownObject {
			large = append(large, a)
		} else {
			small = append(small, a)
		}
	}
	groups, err := grouped(small)
	if err != nil {
		return err
	}
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range groups {
		if groups[i].frame == nil {
			g.Go(groups[i].join)
		}
	}
	_ = g.Wait() // none fails
	for _, gr := range groups {
		if err := in.append(gr); err != nil {
			return err
		}
	}
	return in.addLarge(large)
}

// record notes what is stored, and only that.
func (in *incoming) record(st ...records.Stored) {
	in.list = append(in.list, st...)
	for _, s := range st {
		in.size += s.Size
		in.has[s.Digest] = true
	}
}

// append adds a frame to the pack object, and begins one if necessary.
func (in *incoming) append(g group) error {
	t := token(in.c)
	if in.object != nil && in.object.Bytes()+int64(len(g.frame)) > packs.Most {
		if err := in.finish(); err != nil {
			return err
		}
	}
	if in.object == nil {
		name := packs.Name(t.RepositoryID)
		if err := in.s.Records.Announce(in.c.Request.Context(), t.RepositoryID, records.Stored{Object: name}); err != nil {
			return err
		}
		// The end of the connection is no reason to lose what has arrived.
		in.object = packs.Begin(context.WithoutCancel(in.c.Request.Context()), in.s.Blobs, name)
	}
	position, err := in.object.Add(g.frame)
	if err != nil {
		return err
	}
	for _, a := range g.members {
		in.record(records.Stored{
			Digest: a.digest, Object: in.object.Name, Position: position, Packed: int64(len(g.frame)), Size: a.size, Owner: t.WritesTo,
		})
	}
	return nil
}

// addLarge stores members as objects of their own.
func (in *incoming) addLarge(large []arrived) error {
	if len(large) == 0 {
		return nil
	}
	ctx := context.WithoutCancel(in.c.Request.Context())
	list := make([]records.Stored, len(large))
	for i, a := range large {
		list[i] = newObject(in.c, a.digest, a.size)
	}
	if err := in.s.Records.Announce(ctx, token(in.c).RepositoryID, list...); err != nil {
		return err
	}
	var g errgroup.Group
	g.SetLimit(storing)
	for i, a := range large {
		g.Go(func() error { return in.s.Blobs.Put(ctx, list[i].Object, bytes.NewReader(a.text)) })
	}
	if err := g.Wait(); err != nil {
		return errors.Join(err, in.s.Records.Unannounce(ctx, list...))
	}
	in.record(list...)
	return nil
}

// storing is how many large members are stored in parallel.
const storing = 8

// finish ends the pack object and records what was stored.
func (in *incoming) finish() error {
	if len(in.list) == 0 {
		return nil
	}
	ctx := context.WithoutCancel(in.c.Request.Context())
	var err error
	if in.object != nil {
		err = in.object.Close()
	}
	if err == nil {
		err = in.s.Records.PutBlobs(ctx, token(in.c).RepositoryID, slices.Clone(in.list))
	}
	if err != nil {
		err = errors.Join(err, in.s.Records.Unannounce(ctx, in.list...))
	} else {
		in.s.metrics.cache.received.Add(float64(in.size))
	}
	in.object, in.list = nil, nil
	in.release(err == nil)
	return err
}

// release ends all reservations. What is not stored is forgotten.
func (in *incoming) release(stored bool) {
	if in.object != nil {
		in.object.Drop()
	}
	if len(in.list) > 0 {
		_ = in.s.Records.Unannounce(context.WithoutCancel(in.c.Request.Context()), in.list...) // otherwise they are deleted later
	}
	for _, r := range in.rooms {
		r.end(stored)
	}
	for _, a := range in.batch {
		a.room.end(false)
	}
	*in = incoming{s: in.s, c: in.c, has: in.has, fault: in.fault}
}

// keep stores what has arrived, all of which was verified.
func (in *incoming) keep() error {
	err := in.store()
	if err == nil {
		err = in.finish()
	}
	in.release(false)
	return err
}

// members are those of a request's pack: as frames, or as one archive.
type members struct {
	pack.Reader
	frames *pack.Frames // nil: one archive
	room   []byte       // for what a frame contains
	whole  *frame       // the last one, if it can be stored as it is
	plain  int64        // bytes of members of frames so far, with their headers
}

// openPack returns the members of a request's pack. Done ends it.
func openPack(c *gin.Context) (p *members, done func(), err error) {
	body := io.Reader(http.MaxBytesReader(c.Writer, c.Request.Body, protocol.MaxPack))
	done = func() {}
	p = &members{Reader: pack.Reader{Largest: protocol.PackedBlob, Left: protocol.MaxPack}}
	compressed := c.GetHeader("Content-Encoding") == "zstd"
	if framesOf(c.GetHeader("Content-Type")) != "" && compressed {
		p.frames = pack.NewFrames(body)
		return p, done, nil
	}
	if compressed {
		dec, err := zstd.NewReader(body, zstd.WithDecoderMaxMemory(packMemory), zstd.WithDecoderMaxWindow(packMemory),
			zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, done, err
		}
		done, body = dec.Close, dec
	}
	p.From = tar.NewReader(io.LimitReader(body, plainMost))
	return p, done, nil
}

// plainMost is how many bytes a pack has at most, decompressed. The headers of members take room
// as well: without a bound, empty members would cost only the service something.
const plainMost = protocol.MaxPack + protocol.MaxPack/4

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
	in := &incoming{s: s, c: c, has: map[digest.Digest]bool{}}
	for {
		results, err := in.take(p)
		answer.Results = append(answer.Results, results...)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			in.cutOff(answer, err)
			return
		}
	}
	if err := in.keep(); err != nil {
		s.refuseBody(c, err)
		return
	}
	c.JSON(http.StatusOK, answer)
}

// cutOff stores what arrived before an error, which was verified, and says what
// was wrong.
func (in *incoming) cutOff(answer protocol.PackAnswer, cause error) {
	s, c := in.s, in.c
	if err := errors.Join(in.keep(), in.fault); err != nil {
		s.refuseBody(c, err)
		return
	}
	var full fullError
	var large *http.MaxBytesError
	switch {
	case errors.As(cause, &full), errors.Is(cause, errSlow):
		s.refuseBody(c, cause)
	case errors.Is(cause, pack.ErrName):
		problem(c, http.StatusBadRequest, "a member of the pack is not named by a digest", cause.Error())
	case errors.Is(cause, pack.ErrForm):
		problem(c, http.StatusBadRequest, "the pack is refused", cause.Error())
	case errors.Is(cause, pack.ErrDamaged):
		problem(c, http.StatusBadRequest, "the pack is damaged", fmt.Sprintf("%d members were stored: %v", len(answer.Results), cause))
	case errors.Is(cause, pack.ErrLarge), errors.As(cause, &large):
		problem(c, http.StatusRequestEntityTooLarge, "the pack is too large", cause.Error())
	default:
		problem(c, http.StatusBadRequest, "the pack was cut off", fmt.Sprintf("%d members were stored: %v", len(answer.Results), cause))
	}
}

// take reads one member, or those of one frame, after room for it is reserved. Members are
// collected and stored together. After the last one the error is [io.EOF].
func (in *incoming) take(p *members) (results []protocol.PackResult, err error) {
	read := in.read
	if p.frames != nil {
		read = in.readFrame
	}
	for more := true; more && err == nil; more = p.frames != nil && p.frames.More() {
		var a arrived
		a, err = read(p)
		switch {
		case errors.Is(err, errMismatch), errors.Is(err, errLength):
			results = append(results, protocol.PackResult{Digest: a.digest, Error: err.Error()})
			err = nil
		case err == nil:
			results = append(results, protocol.PackResult{Digest: a.digest, OK: true})
			in.batch, in.bytes = append(in.batch, a), in.bytes+a.size
		}
	}
	if err != nil {
		return results, err
	}
	if len(in.batch) >= batchBlobs || in.bytes >= batchBytes {
		in.fault = in.store()
	}
	return results, in.fault
}

// read reads a member of an archive.
func (in *incoming) read(p *members) (a arrived, err error) {
	if a.digest, a.size, err = p.Next(); err != nil {
		return a, err
	}
	if a.room, err = in.s.reserve(in.c, a.size); err != nil {
		return a, err
	}
	if a.text, err = io.ReadAll(&checked{r: p, h: digest.New(), want: a.digest, left: a.size}); err != nil {
		a.room.end(false)
	}
	return a, err
}
