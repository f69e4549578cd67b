package api

import (
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/records"
)

// cache answers what the shared cache holds, and what it is good for.
func (s *Server) cache(c *gin.Context) {
	days, ok := number(c, "days", 90, mostDays)
	if !ok {
		return
	}
	out, err := s.Records.Cache(c.Request.Context(), token(c).RepositoryID, s.Retention, time.Now().AddDate(0, 0, -days))
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// entry answers what one entry consists of.
func (s *Server) entry(c *gin.Context) {
	ctx, repo := c.Request.Context(), token(c).RepositoryID
	k, err := digest.Parse(c.Param("key"))
	if err != nil {
		problem(c, http.StatusBadRequest, "the key is not a digest", cutText(err.Error()))
		return
	}
	e, err := s.Records.EntryOf(ctx, token(c), k, c.Query("shelf"))
	if err != nil {
		s.fault(c, err)
		return
	}
	d := protocol.EntryDetail{CacheEntry: e}
	if d.Made, err = s.ingredients(ctx, repo, e.Ingredients); err == nil {
		d.Outputs, d.Total, err = s.outputs(ctx, repo, e.Listing)
	}
	if err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, d)
}

// setRetention changes quota and retention.
func (s *Server) setRetention(c *gin.Context) {
	var in protocol.RetentionChange
	if !s.decode(c, protocol.MaxBody, &in) || !accept(c, bounds.Retention(in)) {
		return
	}
	ctx, t := c.Request.Context(), token(c)
	var err error
	detail := ""
	switch {
	case in.Shelf != "" && in.QuotaBytes != nil:
		err = s.Records.SetShelfQuota(ctx, t.Repository, in.Shelf, *in.QuotaBytes)
		detail = fmt.Sprintf("quota %d bytes", *in.QuotaBytes)
	default:
		quota, days := int64(-1), -1
		if in.QuotaBytes != nil {
			quota = *in.QuotaBytes
		}
		if in.Days != nil {
			days = *in.Days
		}
		detail = records.RetentionChange(quota, days)
		err = s.Records.SetRetention(ctx, t.Repository, quota, days)
	}
	if err != nil {
		s.refused(c, err)
		return
	}
	s.note(c, records.Audit{Action: "retention changed", Subject: in.Shelf, Detail: detail})
	s.Recount()
	c.Status(http.StatusNoContent)
}
