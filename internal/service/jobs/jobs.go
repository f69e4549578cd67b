// Package jobs is the background work of the service: rollups, cleanup,
// partitions. It is a thin layer over River, a job queue in the same PostgreSQL:
// a job is inserted in the transaction that makes it necessary, and any replica
// carries it out, once more if one fails.
package jobs

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/robfig/cron/v3"

	"grayloft.example/grayloft/internal/service/announce"
	"grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

// Config says what the jobs work with.
type Config struct {
	DB        *records.DB
	Rollups   *insight.Rollups
	Retention records.Retention
	Interval  time.Duration // between cleanups; 0: none
	Fleet     *fleet.Fleet
	Schedules []fleet.Trigger
	Announcer *announce.Announcer
	Packs     packs.Compactor
	Cleaned   func(ctx context.Context, s records.Cleanup) // called after each cleanup that this replica made
	Log       *slog.Logger
}

// Jobs carries out the background work of one replica.
type Jobs struct {
	client   *river.Client[pgxTx]
	inserter *river.Client[*sql.Tx]
	pool     *pgxpool.Pool
}

const (
	// poolSize is how many connections the jobs of a replica use at most.
	poolSize = 6
	// upkeep is the queue of jobs of which one at a time is enough.
	upkeep = "upkeep"
	// leases is the queue of the job that takes jobs from runners that do not report.
	leases      = "leases"
	rollWorkers = 2
	// announcements is the queue of what receivers are told: a slow one delays nothing else.
	announcements   = "announcements"
	announceWorkers = 4
	announceTries   = 9         // the last one after about two days
	cleanLimit      = time.Hour // for one cleanup
	sweepEvery      = time.Minute
	usualLimit      = time.Minute // for one job, unless its worker says otherwise
	overdueEach     = 5 * time.Second
)

// Start migrates River's tables and starts to work. It also arranges that ended
// runs are rolled up.
func Start(ctx context.Context, c Config) (*Jobs, error) {
	pool, err := openPool(ctx, c.DB.URL())
	if err != nil {
		return nil, fmt.Errorf("connecting to the database for jobs: %w", err)
	}
	j, err := start(ctx, c, pool)
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("starting the background jobs: %w", err)
	}
	return j, nil
}

func openPool(ctx context.Context, url string) (*pgxpool.Pool, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	cfg.MaxConns = poolSize
	cfg.ConnConfig.RuntimeParams["statement_timeout"] = strconv.FormatInt(cleanLimit.Milliseconds(), 10)
	return pgxpool.NewWithConfig(ctx, cfg)
}

func start(ctx context.Context, c Config, pool *pgxpool.Pool) (*Jobs, error) {
	driver := riverpgxv5.New(pool)
	migrator, err := rivermigrate.New(driver, &rivermigrate.Config{Logger: quiet(c.Log)})
	if err != nil {
		return nil, err
	}
	if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, err
	}
	inserter, err := river.NewClient(riverdatabasesql.New(c.DB.DB.DB), &river.Config{Logger: quiet(c.Log)})
	if err != nil {
		return nil, err
	}
	c.DB.Finished = func(ctx context.Context, tx *sql.Tx, repository int64, run string) error {
		if _, err := inserter.InsertTx(ctx, tx, rollArgs{repository, run}, nil); err != nil {
			return err
		}
		return announceRun(ctx, inserter, tx, announceArgs{repository, run, 0})
	}
	j := &Jobs{inserter: inserter, pool: pool}
	c.Fleet.Queue = j
	j.client, err = river.NewClient(driver, &river.Config{
		Queues: map[string]river.QueueConfig{
			river.QueueDefault: {MaxWorkers: rollWorkers},
			upkeep:             {MaxWorkers: 1},
			leases:             {MaxWorkers: 1}, announcements: {MaxWorkers: announceWorkers},
		},
		Workers:      workers(c),
		PeriodicJobs: periodic(c),
		Logger:       quiet(c.Log),
		JobTimeout:   usualLimit,
		// What a replica that was killed had in hand is carried out again after this time.
		RescueStuckJobsAfter: usualLimit,
	})
	if err != nil {
		return nil, err
	}
	return j, j.client.Start(ctx)
}

func periodic(c Config) []*river.PeriodicJob {
	once := func(every time.Duration) *river.InsertOpts {
		return &river.InsertOpts{Queue: upkeep, MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true, ByPeriod: every}}
	}
	out := []*river.PeriodicJob{
		river.NewPeriodicJob(river.PeriodicInterval(24*time.Hour), func() (river.JobArgs, *river.InsertOpts) {
			return partitionArgs{}, once(time.Hour)
		}, &river.PeriodicJobOpts{RunOnStart: true}),
		river.NewPeriodicJob(river.PeriodicInterval(sweepEvery), func() (river.JobArgs, *river.InsertOpts) {
			return sweepArgs{}, once(sweepEvery)
		}, &river.PeriodicJobOpts{RunOnStart: true}),
	}
	out = append(out, river.NewPeriodicJob(river.PeriodicInterval(overdueEach), func() (river.JobArgs, *river.InsertOpts) {
		return overdueArgs{}, &river.InsertOpts{Queue: leases, MaxAttempts: 1}
	}, nil))
	for i, t := range c.Schedules {
		if schedule, err := cron.ParseStandard("CRON_TZ=UTC " + t.Cron); err == nil { // it was checked
			out = append(out, river.NewPeriodicJob(schedule, func() (river.JobArgs, *river.InsertOpts) {
				return scheduledArgs{i, t.Name, time.Now().UTC().Truncate(time.Minute)}, &river.InsertOpts{Queue: upkeep, MaxAttempts: 3}
			}, nil))
		}
	}
	if c.Interval > 0 {
		out = append(out, river.NewPeriodicJob(river.PeriodicInterval(c.Interval), func() (river.JobArgs, *river.InsertOpts) {
			return cleanArgs{}, &river.InsertOpts{Queue: upkeep, MaxAttempts: 1}
		}, &river.PeriodicJobOpts{RunOnStart: true}))
	}
	return out
}

// Stop waits for the jobs in progress, but not longer than the context, and then
// cancels them: another replica, or the next start, carries them out again.
func (j *Jobs) Stop(ctx context.Context) error {
	defer j.pool.Close()
	soft, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	err := j.client.Stop(soft)
	if errors.Is(err, context.DeadlineExceeded) {
		err = j.client.StopAndCancel(ctx)
	}
	return err
}
