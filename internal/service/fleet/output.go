package fleet

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// chunk are lines of an attempt of a job.
type chunk struct {
	job     int64
	attempt int
	first   int // number of the first line, from 0; negative: after all others
	lines   []string
}

// AddLines stores what a job printed. Lines that are known are skipped.
func (f *Fleet) AddLines(ctx context.Context, t records.Token, job int64, l protocol.JobLines) error {
	return f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		h, err := hold(ctx, tx, t, job, l.Attempt)
		if err != nil {
			return err
		}
		if err := addLines(ctx, tx, h.Request, chunk{job, l.Attempt, l.First, l.Lines}); err != nil {
			return err
		}
		return records.NotifyRequest(ctx, tx, t.RepositoryID, h.Request, false)
	})
}

const outputCut = "… what follows is not kept here: the record of the run has the logs"

// addLines appends lines to the output of a request, whose row is locked. An output that is
// too long ends with a line that says so.
func addLines(ctx context.Context, tx *sqlx.Tx, request int64, c chunk) error {
	var at struct {
		Next    int   `db:"next"`
		Through int   `db:"through"`
		Bytes   int64 `db:"bytes"`
	}
	if err := tx.GetContext(ctx, &at, `
		SELECT coalesce(max(first + lines), 0) AS next, coalesce(sum(bytes), 0)::bigint AS bytes,
			coalesce(max(through) FILTER (WHERE job_id = $2 AND attempt = $3), 0) AS through
		FROM job_lines WHERE request_id = $1`, request, c.job, c.attempt); err != nil {
		return err
	}
	if c.first < 0 {
		c.first = at.Through
	}
	if c.first > at.Through || c.first+len(c.lines) <= at.Through || at.Bytes >= protocol.MaxOutput {
		return nil
	}
	lines := c.lines[at.Through-c.first:]
	size := int64(0)
	for _, l := range lines {
		size += int64(len(l)) + 1
	}
	if at.Bytes+size >= protocol.MaxOutput {
		lines, size = []string{outputCut}, protocol.MaxOutput-at.Bytes
	}
	text, err := json.Marshal(lines)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		INSERT INTO job_lines (request_id, first, lines, job_id, attempt, through, bytes, content) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		request, at.Next, len(lines), c.job, c.attempt, at.Through+len(lines), size, packer.EncodeAll(text, nil))
	return err
}

// outputEach is how many parts of an output one answer has at most.
const outputEach = 200

// Output returns what the jobs of a request printed, from a line on. If there is nothing yet,
// it waits for a while.
func (f *Fleet) Output(ctx context.Context, repository, request int64, first int, wait time.Duration) (protocol.Output, error) {
	limit := time.NewTimer(wait)
	defer limit.Stop()
	for {
		out, again, err := f.outputOnce(ctx, repository, request, first, limit.C)
		if !again {
			return out, err
		}
	}
}

// outputOnce looks once, and waits if there is nothing. Again: there is news.
func (f *Fleet) outputOnce(
	ctx context.Context, repository, request int64, first int, limit <-chan time.Time,
) (out protocol.Output, again bool, err error) {
	news, leave := f.wakes.next(requestKey(request))
	defer leave()
	out, err = f.output(ctx, repository, request, first)
	if err != nil || len(out.Lines) > 0 || out.Ended {
		return out, false, err
	}
	select {
	case <-news:
		return out, true, nil
	case <-limit:
	case <-f.closed:
	case <-ctx.Done():
		err = ctx.Err()
	}
	return out, false, err
}

func (f *Fleet) output(ctx context.Context, repository, request int64, first int) (protocol.Output, error) {
	out := protocol.Output{Lines: []protocol.OutputLine{}, Next: first}
	// The state is read first: whatever was printed before the end is then there.
	err := f.DB.GetContext(ctx, &out.State, `SELECT state FROM requests WHERE repository_id = $1 AND id = $2`, repository, request)
	if errors.Is(err, sql.ErrNoRows) {
		return out, missing("request", request)
	}
	if err != nil {
		return out, err
	}
	var parts []struct {
		First   int    `db:"first"`
		Lines   int    `db:"lines"`
		Member  int    `db:"member"`
		Content []byte `db:"content"`
	}
	if err := f.DB.SelectContext(ctx, &parts, `
		SELECT l.first, l.lines, j.member, l.content FROM job_lines l JOIN jobs j ON j.id = l.job_id
		WHERE l.request_id = $1 AND l.first + l.lines > $2 ORDER BY l.first LIMIT $3`, request, first, outputEach); err != nil {
		return out, err
	}
	for _, p := range parts {
		var lines []string
		text, err := unpacker.DecodeAll(p.Content, nil)
		if err == nil {
			err = json.Unmarshal(text, &lines)
		}
		if err != nil {
			return out, err
		}
		for _, l := range lines[max(0, first-p.First):] {
			out.Lines = append(out.Lines, protocol.OutputLine{Member: p.Member, Text: l})
		}
		out.Next = p.First + p.Lines
	}
	out.Ended = fleet.State(out.State).HasEnded() && len(parts) < outputEach
	return out, nil
}
