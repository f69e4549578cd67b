package jobs

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

type pgxTx = pgx.Tx

// The arguments of the jobs.
type (
	rollArgs struct {
		Repository int64  `json:"repository"`
		Run        string `json:"run"`
	}
	sweepArgs     struct{}
	partitionArgs struct{}
	cleanArgs     struct{}
	overdueArgs   struct{}
	offerArgs     struct{ fleet.Offer }
	scheduledArgs struct {
		Number int       `json:"number"` // of the schedule, in the configuration
		Name   string    `json:"name"`
		Due    time.Time `json:"due"`
	}
	announceArgs struct {
		Repository int64  `json:"repository"`
		Run        string `json:"run"`
		Receiver   int64  `json:"receiver"`
	}
)

// Kind implements [river.JobArgs].
func (rollArgs) Kind() string { return "roll-up-run" }

// Kind implements [river.JobArgs].
func (sweepArgs) Kind() string { return "find-runs-to-roll-up" }

// Kind implements [river.JobArgs].
func (partitionArgs) Kind() string { return "make-partitions" }

// Kind implements [river.JobArgs].
func (cleanArgs) Kind() string { return "clean-up" }

// Kind implements [river.JobArgs].
func (overdueArgs) Kind() string { return "find-lost-jobs" }

// Kind implements [river.JobArgs].
func (offerArgs) Kind() string { return "offer-job" }

// Kind implements [river.JobArgs].
func (scheduledArgs) Kind() string { return "request-scheduled" }

// Kind implements [river.JobArgs].
func (announceArgs) Kind() string { return "announce-run" }

// announceRun inserts a job for each receiver of a repository.
func announceRun(ctx context.Context, inserter *river.Client[*sql.Tx], tx *sql.Tx, a announceArgs) error {
	rows, err := tx.QueryContext(ctx, `SELECT id FROM receivers WHERE repository_id = $1`, a.Repository)
	if err != nil {
		return err
	}
	defer rows.Close()
	var list []announceArgs
	for rows.Next() {
		if err := rows.Scan(&a.Receiver); err != nil {
			return err
		}
		list = append(list, a)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, a := range list {
		if _, err := inserter.InsertTx(ctx, tx, a, &river.InsertOpts{Queue: announcements, MaxAttempts: announceTries}); err != nil {
			return err
		}
	}
	return nil
}

// launch makes the request of a schedule. The configuration may have changed meanwhile.
func launch(ctx context.Context, c Config, a scheduledArgs) error {
	if a.Number >= len(c.Schedules) || c.Schedules[a.Number].Name != a.Name {
		return nil
	}
	t := c.Schedules[a.Number]
	o := fleet.Origin{Kind: protocol.OriginSchedule, Source: "schedule " + t.Name + " " + a.Due.Format(time.RFC3339)}
	_, err := c.Fleet.Launch(ctx, t, o, t.Branch, "")
	if err != nil {
		c.Log.Warn("a scheduled run was not requested", "schedule", t.Name, "error", err)
	}
	return err
}

// Insert implements [fleet.Queue].
func (j *Jobs) Insert(ctx context.Context, tx *sql.Tx, o fleet.Offer) error {
	_, err := j.inserter.InsertTx(ctx, tx, offerArgs{o}, &river.InsertOpts{Queue: o.Queue, Priority: o.Priority, MaxAttempts: offerTries})
	return err
}

// Serve implements [fleet.Queue].
func (j *Jobs) Serve(queue string) error {
	err := j.client.Queues().Add(queue, river.QueueConfig{MaxWorkers: 1, FetchCooldown: offerPause})
	var added *river.QueueAlreadyAddedError
	if errors.As(err, &added) {
		return nil
	}
	return err
}

// Leave implements [fleet.Queue].
func (j *Jobs) Leave(ctx context.Context, queue string) error {
	return j.client.Queues().Remove(ctx, queue)
}

const (
	// offerPause is the shortest time between two offers of a pool at one replica.
	offerPause = 10 * time.Millisecond
	// offerAgain is how long an offer rests for which no runner was found here.
	offerAgain = time.Second
	offerTries = 10_000
)

func workers(c Config) *river.Workers {
	w := river.NewWorkers()
	river.AddWorker(w, river.WorkFunc(func(ctx context.Context, j *river.Job[rollArgs]) error {
		return c.Rollups.Roll(ctx, j.Args.Repository, j.Args.Run)
	}))
	river.AddWorker(w, river.WorkFunc(func(ctx context.Context, _ *river.Job[sweepArgs]) error { return sweep(ctx, c) }))
	river.AddWorker(w, river.WorkFunc(func(ctx context.Context, _ *river.Job[partitionArgs]) error {
		return c.DB.Patient().EnsureMonths(ctx, time.Now())
	}))
	river.AddWorker(w, &cleaner{Config: c})
	river.AddWorker(w, &offerer{fleet: c.Fleet})
	river.AddWorker(w, river.WorkFunc(func(ctx context.Context, j *river.Job[scheduledArgs]) error { return launch(ctx, c, j.Args) }))
	river.AddWorker(w, river.WorkFunc(func(ctx context.Context, j *river.Job[announceArgs]) error {
		return c.Announcer.Tell(ctx, j.Args.Receiver, j.Args.Run)
	}))
	river.AddWorker(w, river.WorkFunc(func(ctx context.Context, _ *river.Job[overdueArgs]) error {
		n, err := c.Fleet.LoseOverdue(ctx)
		if n > 0 {
			c.Log.Info("jobs were taken from runners that do not report", "jobs", n)
		}
		return err
	}))
	return w
}

// offerer hands jobs to runners. An offer that failed, because the database was away, is made
// again soon, however often it failed: the usual pauses grow to minutes.
type offerer struct {
	river.WorkerDefaults[offerArgs]
	fleet *fleet.Fleet
}

// NextRetry implements [river.Worker].
func (*offerer) NextRetry(*river.Job[offerArgs]) time.Time { return time.Now().Add(offerAgain) }

// Work implements [river.Worker].
func (o *offerer) Work(ctx context.Context, j *river.Job[offerArgs]) error {
	taken, err := o.fleet.Hand(ctx, j.Args.Offer)
	if err == nil && !taken {
		return river.JobSnooze(offerAgain)
	}
	return err
}

// sweep rolls up runs whose job was lost, that received events after their end,
// or that never ended.
func sweep(ctx context.Context, c Config) error {
	var failed []error
	var after insight.Unrolled
	for {
		list, err := c.Rollups.Waiting(ctx, after)
		if err != nil || len(list) == 0 {
			return errors.Join(append(failed, err)...)
		}
		for _, r := range list { // one that fails keeps no other from it
			if err := c.Rollups.Roll(ctx, r.Repository, r.ID); ctx.Err() != nil {
				return errors.Join(append(failed, ctx.Err())...)
			} else if err != nil {
				failed = append(failed, fmt.Errorf("run %s: %w", r.ID, err))
			}
		}
		after = list[len(list)-1]
	}
}

// cleaner removes what has expired or exceeds a quota.
type cleaner struct {
	river.WorkerDefaults[cleanArgs]
	Config
}

// Timeout implements [river.Worker].
func (*cleaner) Timeout(*river.Job[cleanArgs]) time.Duration { return cleanLimit }

// Work implements [river.Worker].
func (w *cleaner) Work(ctx context.Context, _ *river.Job[cleanArgs]) error {
	began := time.Now()
	s, mine, err := w.DB.Patient().Cleanup(ctx, w.Retention, w.Packs.Store.Delete)
	var again packs.Compacted
	if err == nil && mine {
		again, err = w.Packs.Compact(ctx)
		err = errors.Join(err, w.DB.Patient().NoteCache(ctx))
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		w.Log.Warn("cleanup failed", "error", err)
	case mine && (s != (records.Cleanup{}) || again.Packs > 0):
		w.Log.Info("cleanup", "entries", s.Entries, "runs", s.Runs, "marked", s.Marked, "unmarked", s.Unmarked,
			"deleted", s.Deleted, "bytes", s.Bytes, "compacted_packs", again.Packs, "took", time.Since(began).Round(time.Millisecond))
	}
	w.Cleaned(ctx, s)
	return nil
}

// quiet leaves out what River says about its own work.
func quiet(log *slog.Logger) *slog.Logger { return slog.New(warnings{log.Handler()}) }

// warnings is a handler that passes on warnings and errors only.
type warnings struct{ slog.Handler }

// Enabled implements [slog.Handler].
func (h warnings) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && h.Handler.Enabled(ctx, level)
}

// WithAttrs implements [slog.Handler].
func (h warnings) WithAttrs(list []slog.Attr) slog.Handler {
	return warnings{h.Handler.WithAttrs(list)}
}

// WithGroup implements [slog.Handler].
func (h warnings) WithGroup(name string) slog.Handler { return warnings{h.Handler.WithGroup(name)} }
