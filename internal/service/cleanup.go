package service

import (
	"context"
	"time"

	"grayloft.example/grayloft/internal/service/api"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/records"
)

// cleanUp runs the cleanup periodically until the context ends, and reports the
// usage of every repository to the metrics.
func cleanUp(ctx context.Context, c Config, db *records.DB, store blobs.Store, server *api.Server) {
	tick := time.NewTicker(c.CleanupInterval)
	defer tick.Stop()
	for {
		began := time.Now()
		s, mine, err := db.Cleanup(ctx, c.Retention, store.Delete)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			c.Log.Warn("cleanup failed", "error", err)
		case mine && s != (records.Cleanup{}):
			c.Log.Info("cleanup", "entries", s.Entries, "runs", s.Runs, "marked", s.Marked, "unmarked", s.Unmarked,
				"deleted", s.Deleted, "bytes", s.Bytes, "took", time.Since(began).Round(time.Millisecond))
		}
		server.Recount()
		if list, err := db.Usage(ctx); err == nil {
			server.ReportUsage(list, s)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
