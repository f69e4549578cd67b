package service

import (
	"context"
	"time"

	"grayloft.example/grayloft/internal/service/api"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/records"
)

// sweep sweeps now and then, until the context ends, and tells the metrics what
// every repository holds.
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
			c.Log.Warn("sweeping", "error", err)
		case mine && s != (records.Cleanup{}):
			c.Log.Info("swept", "entries", s.Entries, "runs", s.Runs, "condemned", s.Marked, "spared", s.Unmarked,
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
