// Package service assembles the service: records, blobs, HTTP and console, with
// an explicit start and stop.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"grayloft.example/grayloft/internal/service/announce"
	"grayloft.example/grayloft/internal/service/api"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/cluster"
	"grayloft.example/grayloft/internal/service/console"
	"grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/jobs"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/service/stored"
)

// Config says where a service stores data and where it listens.
type Config struct {
	Data     string // directory of blobs and, without Database, of the records
	Database string // PostgreSQL's address; empty: a private cluster in Data
	Listen   string // host:port
	CertFile string // with KeyFile: TLS
	KeyFile  string
	Log      *slog.Logger

	Bucket       string // an S3-compatible bucket's address; empty: blobs in Data
	BucketKey    string
	BucketSecret string

	Schedules  []fleet.Trigger // what is requested by time
	Pushes     []fleet.Trigger // and after pushes
	AnnounceTo []netip.Prefix  // private networks to which runs may be announced

	Retention       records.Retention
	CleanupInterval time.Duration // interval between cleanups; 0: none
	Limits          api.Limits
	RunnerLease     time.Duration // how long a job belongs to a runner that does not report; 0: [protocol.RunnerLease]
	ClaimLease      time.Duration // how long a claim lasts without being renewed; 0: [protocol.ClaimLease]
}

// Defaults are the settings of a service without options.
func Defaults() Config {
	return Config{
		Retention:       records.Retention{Days: 60, RunDays: 365, DeletionDelay: 48 * time.Hour},
		CleanupInterval: 10 * time.Minute,
		Limits:          api.Limits{Rate: 2000, Uploads: 64},
	}
}

func openBlobs(ctx context.Context, c Config) (blobs.Store, error) {
	if c.Bucket != "" {
		return blobs.OpenBucket(ctx, c.Bucket, c.BucketKey, c.BucketSecret)
	}
	return blobs.OpenDir(filepath.Join(c.Data, "blobs"))
}

// Service is a running service.
type Service struct {
	URL  string
	stop func() error
	done chan error
}

// OpenRecords connects to the database that the configuration names, or to the
// private cluster, for a command beside the service. Close stops a cluster that
// it started.
func OpenRecords(ctx context.Context, c Config) (db *records.DB, close func() error, err error) {
	return openRecords(ctx, c, func() (*cluster.Cluster, error) { return cluster.Visit(ctx, c.cluster()) })
}

func (c Config) cluster() string { return filepath.Join(c.Data, "postgres") }

func openRecords(
	ctx context.Context,
	c Config,
	private func() (*cluster.Cluster, error),
) (db *records.DB, close func() error, err error) {
	url := c.Database
	stop := func() error { return nil }
	if url == "" {
		cl, err := private()
		if err != nil {
			return nil, nil, err
		}
		stop = cl.Stop
		if err := cl.EnsureDatabase(ctx, "grayloft"); err != nil {
			return nil, nil, errors.Join(err, stop())
		}
		url = cl.URL("grayloft")
	}
	if db, err = records.Open(ctx, url); err != nil {
		return nil, nil, errors.Join(err, stop())
	}
	return db, func() error { return errors.Join(db.Close(), stop()) }, nil
}

// Start starts a service and returns once it answers.
func Start(ctx context.Context, c Config) (*Service, error) {
	if err := os.MkdirAll(c.Data, 0o755); err != nil {
		return nil, fmt.Errorf("the data directory: %w", err)
	}
	l, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, fmt.Errorf("listening: %w (choose another --listen, such as 127.0.0.1:0)", err)
	}
	db, closeDB, err := openRecords(ctx, c, func() (*cluster.Cluster, error) {
		cl, err := cluster.Start(ctx, c.cluster())
		if err == nil {
			cl.Watch(c.Log)
		}
		return cl, err
	})
	if err != nil {
		l.Close()
		return nil, err
	}
	store, err := openBlobs(ctx, c)
	if err != nil {
		l.Close()
		return nil, errors.Join(err, closeDB())
	}
	r := &running{db: db, closeDB: closeDB, log: c.Log}
	if err := r.begin(ctx, c, store); err != nil {
		l.Close()
		return nil, errors.Join(err, closeDB())
	}
	return r.serve(c, l), nil
}

// running are the parts of a service.
type running struct {
	db         *records.DB
	closeDB    func() error
	log        *slog.Logger
	api        *api.Server
	http       *http.Server
	background *jobs.Jobs
	cancel     context.CancelFunc
}

// begin assembles the parts and starts the background work.
func (r *running) begin(ctx context.Context, c Config, store blobs.Store) (err error) {
	inner, cancel := context.WithCancel(context.WithoutCancel(ctx))
	r.cancel = cancel
	c.Limits.Quota = c.Retention.Quota
	declarations := insight.NewDeclarations(r.db)
	requested := fleet.New(r.db, c.RunnerLease)
	announcer := announce.New(r.db, c.AnnounceTo)
	r.api = &api.Server{
		Records: r.db, Blobs: store, Declarations: declarations, Console: console.Handler(), Log: c.Log, Secure: c.CertFile != "",
		Limits: c.Limits, Retention: c.Retention, Lease: c.ClaimLease, Fleet: requested, Announcer: announcer, Pushes: c.Pushes,
	}
	r.http = &http.Server{
		Handler: r.api.Handler(inner), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(c.Log.Handler(), slog.LevelWarn), ConnContext: api.WithConnection,
	}
	made := stored.Reader{Records: r.db, Blobs: store}
	r.background, err = jobs.Start(inner, jobs.Config{
		DB: r.db, Rollups: &insight.Rollups{DB: r.db.Patient(), Declarations: declarations, Made: made.Ingredients},
		Retention: c.Retention, Interval: c.CleanupInterval, Fleet: requested, Schedules: c.Schedules, Announcer: announcer,
		Packs:   packs.Compactor{Records: r.db.Patient(), Store: store, Delay: c.Retention.DeletionDelay},
		Cleaned: r.api.NoteCleanup, Log: c.Log,
	})
	if err != nil {
		cancel()
	}
	return err
}

// serve answers requests until the service is stopped.
func (r *running) serve(c Config, l net.Listener) *Service {
	s := &Service{URL: "http://" + l.Addr().String(), done: make(chan error, 1), stop: r.stop}
	serve := r.http.Serve
	if c.CertFile != "" {
		s.URL = "https://" + l.Addr().String()
		serve = func(l net.Listener) error { return r.http.ServeTLS(l, c.CertFile, c.KeyFile) }
	}
	go func() {
		err := serve(l)
		if errors.Is(err, http.ErrServerClosed) {
			err = nil
		}
		s.done <- err
	}()
	return s
}

// stopLimit is how long requests and jobs in progress have at the end.
const stopLimit = 15 * time.Second

func (r *running) stop() error {
	ctx, stop := context.WithTimeout(context.Background(), stopLimit)
	defer stop()
	r.api.EndStreams() // they would not end by themselves
	if err := r.background.Stop(ctx); err != nil {
		r.log.Warn("stopping the background jobs", "error", err)
	}
	r.cancel()
	err := r.http.Shutdown(ctx)
	if err != nil {
		err = errors.Join(err, r.http.Close())
	}
	if ferr := r.api.Flush(ctx); ferr != nil {
		r.log.Warn("recording the use of entries", "error", ferr)
	}
	return errors.Join(err, r.closeDB())
}

// Stop ends the service, after the requests in progress.
func (s *Service) Stop() error { return s.stop() }

// Done receives the error that ended the service, or nil after [Service.Stop].
func (s *Service) Done() <-chan error { return s.done }
