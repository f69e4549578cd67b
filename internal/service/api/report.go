package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/report"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/protocol"
)

const (
	reportedLogs  = 50  // failures whose logs a report contains
	reportedLines = 400 // of each of them, the last ones
	reportedTests = 100 // tasks whose test cases a report contains
)

// runReport writes a report of a run, to be stored as a file.
func (s *Server) runReport(c *gin.Context) {
	kind := report.Kind(c.Param("kind"))
	if !slices.Contains(report.Kinds, kind) {
		problem(c, http.StatusNotFound, "there is no such kind of report", "html, junit or trace")
		return
	}
	ctx, repo := c.Request.Context(), token(c).RepositoryID
	d, err := s.Records.Run(ctx, repo, c.Param("id"))
	if err != nil {
		s.fault(c, err)
		return
	}
	out := d.Report(token(c).Repository, d.Records)
	if err := s.addEvidence(ctx, repo, d, &out); err != nil {
		s.fault(c, err)
		return
	}
	text, err := report.Write(kind, out)
	if err != nil {
		s.fault(c, err)
		return
	}
	media, extension := kind.MediaType()
	// A page with texts of clients is a file, and never runs as one of the console's.
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"run-%s.%s\"", d.ID, extension))
	c.Header("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'")
	c.Data(http.StatusOK, media, text)
}

// addEvidence adds the logs of failures, and test cases.
func (s *Server) addEvidence(ctx context.Context, repo int64, d protocol.RunDetail, out *report.Run) (err error) {
	logs, tested := 0, 0
	for i, r := range d.Records {
		t := &out.Tasks[i]
		if r.Outcome == "failed" && logs < reportedLogs {
			logs++
			if t.Log, err = s.logTail(ctx, repo, r.Log); err != nil {
				return err
			}
		}
		if r.Tests > 0 && tested < reportedTests {
			tested++
			if t.Cases, err = s.Records.TaskTests(ctx, repo, d.ID, r.Task, shownTests); err != nil {
				return err
			}
		}
	}
	return nil
}

// logTail returns the last lines of a log; none if the service does not have it.
func (s *Server) logTail(ctx context.Context, repo int64, d digest.Digest) (string, error) {
	text, err := s.stored().ReadIfThere(ctx, repo, d)
	if text == nil || err != nil {
		return "", err
	}
	return report.Tail(tasklog.Parse(text), reportedLines), nil
}
