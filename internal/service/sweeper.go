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
func sweep(ctx context.Context, c Config, db *records.DB, store blobs.Store, server *api.Server) {
	tick := time.NewTicker(c.Sweep)
	defer tick.Stop()
	for {
		began := time.Now()
		s, mine, err := db.Sweep(ctx, c.Keeping, store.Delete)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			c.Log.Warn("sweeping", "error", err)
		case mine && s != (records.Swept{}):
			c.Log.Info("swept", "entries", s.Entries, "runs", s.Runs, "condemned", s.Condemned, "spared", s.Spared,
				"deleted", s.Deleted, "bytes", s.Bytes, "took", time.Since(began).Round(time.Millisecond))
		}
		server.Recount()
		if list, err := db.Usages(ctx); err == nil {
			server.Holds(list, s)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
