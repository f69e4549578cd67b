package api

import (
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/records"
)

// mostDays is how far back records can be asked for.
const mostDays = 3650

// runFilter reads which runs are asked for, or answers with a problem. Until is
// always set, so that later runs do not move the pages.
func runFilter(c *gin.Context) (f records.RunFilter, ok bool) {
	days, ok := number(c, "days", 14, mostDays)
	if !ok {
		return f, false
	}
	now := time.Now()
	f = records.RunFilter{
		Since: now.AddDate(0, 0, -days), Until: now,
		Person: c.Query("person"), Branch: c.Query("branch"), Place: c.Query("place"), Shelf: c.Query("shelf"), Commit: c.Query("commit"),
		Outcome: c.Query("outcome"), Task: c.Query("task"), TaskOutcome: c.Query("task_outcome"), Text: c.Query("text"),
	}
	for name, text := range map[string]string{
		"person": f.Person, "branch": f.Branch, "place": f.Place, "shelf": f.Shelf, "commit": f.Commit, "task": f.Task,
		"task_outcome": f.TaskOutcome, "text": f.Text, "after": c.Query("after"),
	} {
		if !accept(c, bounds.Text(name, text)) {
			return f, false
		}
	}
	if !records.RunOutcomes(f.Outcome) {
		problem(c, http.StatusBadRequest, "outcome is not valid", "passed, failed, interrupted, running or lost")
		return f, false
	}
	for name, to := range map[string]*time.Time{"since": &f.Since, "until": &f.Until} {
		if !moment(c, name, to) {
			return f, false
		}
	}
	for name, to := range map[string]*records.Range{"took": &f.Seconds, "saved": &f.Saved, "cost": &f.Cost, "ran": &f.Ran} {
		if !limit(c, "least_"+name, &to.Least) || !limit(c, "most_"+name, &to.Most) {
			return f, false
		}
	}
	return f, true
}

// moment reads a time from the query, or answers with a problem.
func moment(c *gin.Context, name string, to *time.Time) bool {
	text := c.Query(name)
	if text == "" {
		return true
	}
	at, err := time.Parse(time.RFC3339Nano, text)
	if err != nil || at.Year() < 2000 || at.Year() > 2200 {
		problem(c, http.StatusBadRequest, name+" must be a time", "write it like 2026-11-25T08:30:00Z (RFC 3339)")
		return false
	}
	*to = at
	return true
}

// limit reads one end of a range from the query, or answers with a problem.
func limit(c *gin.Context, name string, to **float64) bool {
	text := c.Query(name)
	if text == "" {
		return true
	}
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || !(n >= -1e12 && n <= 1e12) {
		problem(c, http.StatusBadRequest, name+" must be a number", "")
		return false
	}
	*to = &n
	return true
}
