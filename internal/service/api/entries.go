package api

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	gojson "github.com/goccy/go-json" // faster than encoding/json: lookups are large

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

func (s *Server) lookup(c *gin.Context) {
	var in protocol.Lookup
	if !s.decode(c, lookupBody, &in) {
		return
	}
	if len(in.Tasks) > protocol.MaxLookup {
		problem(
			c,
			http.StatusRequestEntityTooLarge,
			"too many tasks in one request",
			fmt.Sprintf("at most %d are allowed", protocol.MaxLookup),
		)
		return
	}
	var keys, early []digest.Digest
	for _, t := range in.Tasks {
		if !t.Key.IsZero() {
			keys = append(keys, t.Key)
		}
		if !t.EarlyKey.IsZero() {
			early = append(early, t.EarlyKey)
		}
	}
	entries, err := s.Records.Lookup(c.Request.Context(), token(c), keys, early)
	if err != nil {
		s.fault(c, err)
		return
	}
	s.uses.note(token(c).RepositoryID, entries)
	s.metrics.cache.lookups.Add(float64(len(in.Tasks)))
	s.metrics.cache.answers.Add(float64(len(entries)))
	answer, form := protocol.LookupAnswer{Entries: entries}, c.NegotiateFormat(gin.MIMEJSON, protocol.TypeCompact)
	var text []byte
	if form == protocol.TypeCompact {
		text = protocol.CompactLookup(answer)
	} else {
		form = "application/json; charset=utf-8"
		text, err = gojson.Marshal(answer)
	}
	if err != nil {
		s.fault(c, err)
		return
	}
	answerWithin(c, int64(len(text)))
	c.Header("Vary", "Accept")
	c.Data(http.StatusOK, form, text)
}

func (s *Server) file(c *gin.Context) {
	t := token(c)
	shelf := c.Query("shelf")
	var e protocol.Entry
	if !s.decode(c, protocol.MaxBody, &e) {
		return
	}
	if !t.MayWrite(shelf) {
		detail := fmt.Sprintf("the token %q writes to %q", t.Name, t.WritesTo)
		if t.WritesTo == "" {
			detail = fmt.Sprintf("the token %q writes to no shelf", t.Name)
		}
		problem(c, http.StatusForbidden, fmt.Sprintf("this token does not have the right to write to the shelf %q", shelf), detail)
		return
	}
	if k, err := digest.Parse(c.Param("key")); err != nil || k != e.Key || e.Key.IsZero() {
		problem(c, http.StatusBadRequest, "the key in the address differs from the key of the entry", "")
		return
	}
	if !accept(c, bounds.Entry(e)) {
		return
	}
	list, ok := s.checkEntry(c, e)
	if !ok {
		return
	}
	e.Bytes, e.Again = list.Bytes(), c.Query("again") == "true"
	filed, err := s.Records.File(c.Request.Context(), t, shelf, e, list)
	var lack records.MissingError
	var size records.SizeError
	switch {
	case errors.As(err, &lack):
		s.missingBlobs(c, lack.Digests)
	case errors.As(err, &size):
		problem(c, http.StatusUnprocessableEntity, "the listing is wrong", size.Error())
	case errors.Is(err, records.ErrWithdrawn):
		problem(c, http.StatusConflict, "this result was withdrawn", err.Error())
	case err != nil:
		s.fault(c, err)
	case filed.Created:
		c.JSON(http.StatusCreated, filed)
	default:
		c.JSON(http.StatusOK, filed)
	}
}

// withdraw withdraws a result from a shelf: whoever writes to it may, and whoever manages.
func (s *Server) withdraw(c *gin.Context) {
	t := token(c)
	var in protocol.Withdrawal
	if !s.decode(c, smallBody, &in) || !accept(c, bounds.Withdrawal(in)) {
		return
	}
	key, err := digest.Parse(c.Param("key"))
	if err != nil {
		problem(c, http.StatusBadRequest, "the key in the address is not a digest", "")
		return
	}
	shelf := cmp.Or(in.Shelf, t.Shelf())
	if shelf == "" || !t.MayWrite(shelf) && !t.MayManage {
		problem(c, http.StatusForbidden, fmt.Sprintf("this token does not have the right to withdraw from the shelf %q", shelf),
			"use one that writes to it, or that was made with --manage")
		return
	}
	removed, err := s.Records.Withdraw(c.Request.Context(), t, shelf, key, in.Listing)
	if err == nil && removed {
		s.note(c, records.Audit{Action: "result withdrawn", Detail: fmt.Sprintf("%s on %s", key.Short(), shelf)})
	}
	s.answer(c, protocol.Withdrawn{Shelf: shelf, Removed: removed}, err)
}

func (s *Server) missingBlobs(c *gin.Context, list []digest.Digest) {
	answerProblem(c, protocol.Problem{
		Type: "about:blank", Title: "blobs that the entry names are missing", Status: http.StatusConflict,
		Detail: "send them, then send the entry again", Missing: list,
	})
}

// maxPart bounds listings and ingredients, in bytes.
const maxPart = protocol.MaxPart

// checkEntry reads what an entry names, recomputes its key from its
// ingredients, and refuses a listing that could do harm.
func (s *Server) checkEntry(c *gin.Context, e protocol.Entry) (listing.List, bool) {
	repo := token(c).RepositoryID
	refuse := func(detail string) (listing.List, bool) {
		problem(c, http.StatusUnprocessableEntity, "the entry is refused", detail)
		return nil, false
	}
	have, err := s.Records.Blobs(c.Request.Context(), repo, []digest.Digest{e.Listing, e.Ingredients})
	if err != nil {
		s.fault(c, err)
		return nil, false
	}
	texts := map[digest.Digest][]byte{}
	for _, d := range []digest.Digest{e.Listing, e.Ingredients} {
		b, ok := have[d]
		if !ok {
			s.missingBlobs(c, []digest.Digest{d})
			return nil, false
		}
		if b.Size > maxPart {
			return refuse(fmt.Sprintf("a listing or list of ingredients of %d bytes is too large", b.Size))
		}
		done, ok := s.mayParse(c, b.Size*listingGrows)
		if !ok {
			return nil, false
		}
		defer done()
		if texts[d], err = s.read(c, b); err != nil {
			s.fault(c, err)
			return nil, false
		}
	}
	if key.OfEncoded(texts[e.Ingredients]) != e.Key {
		return refuse("the key does not match the ingredients")
	}
	in, err := key.Decode(texts[e.Ingredients])
	if err != nil {
		return refuse(err.Error())
	}
	list, err := listing.Parse(texts[e.Listing])
	if err != nil {
		return refuse(err.Error())
	}
	if err := list.CheckLinks(in.Dir); err != nil {
		return refuse(err.Error())
	}
	return list, true
}

func (s *Server) read(c *gin.Context, b records.Blob) ([]byte, error) {
	r, err := packs.Open(c.Request.Context(), s.Blobs, b, 0, b.Size)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	text, err := io.ReadAll(io.LimitReader(r, b.Size+1))
	if err != nil {
		return nil, err
	}
	if d, _ := digest.FromBytes(b.Digest); digest.Of(text) != d {
		return nil, fmt.Errorf("%w: %s is damaged on the service's disk", blobs.ErrNotExist, b.Object)
	}
	return text, nil
}

// entries lists the entries of one task on the shelves that the token reads
// from. A lookup answers the same to the same token, so the right to view
// records is not required.
func (s *Server) entries(c *gin.Context) {
	limit, ok := number(c, "limit", 50, 500)
	if !ok {
		return
	}
	f := records.EntryFilter{Task: c.Query("task"), Of: c.Query("of"), Limit: limit + 1}
	if f.Task == "" {
		problem(c, http.StatusBadRequest, "the task is missing", "write ?task=build@fares")
		return
	}
	if text := c.Query("before"); text != "" {
		at, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			problem(c, http.StatusBadRequest, "before must be the value of next in an earlier page", text)
			return
		}
		f.Before = at
	}
	rows, err := s.Records.Entries(c.Request.Context(), token(c), f)
	if err != nil {
		s.fault(c, err)
		return
	}
	page := protocol.EntryPage{Entries: rows}
	if len(rows) > limit {
		page.Entries = rows[:limit]
		page.Next = rows[limit-1].MadeBy.At.Format(time.RFC3339Nano)
	}
	c.JSON(http.StatusOK, page)
}

// lastGood lists commits whose run on the trusted shelf passed. It shows no more
// of a run than that, so whoever reads that shelf may ask, without the right to
// view records: a client needs it to select what changed since.
func (s *Server) lastGood(c *gin.Context) {
	if !token(c).MayRead(records.Trusted) {
		problem(c, http.StatusForbidden, "this token does not read from the shelf \"trusted\"", "")
		return
	}
	rows, err := s.Records.LastGood(c.Request.Context(), token(c).RepositoryID, c.Query("branch"))
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, protocol.LastGood{Commits: rows})
}

// failed answers which tasks failed last on a branch. Like lastGood it needs no
// right to view records: it answers names of tasks, of runs on shelves that the
// token reads.
func (s *Server) failed(c *gin.Context) {
	branch := c.Query("branch")
	if !accept(c, bounds.Text("branch", branch)) {
		return
	}
	tasks, err := s.Records.FailedOn(c.Request.Context(), token(c), branch)
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, protocol.Failed{Tasks: tasks})
}
