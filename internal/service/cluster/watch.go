package cluster

import (
	"context"
	"log/slog"
	"net"
	"strconv"
	"sync"
	"time"
)

// watch restarts a server that ended without being asked to.
type watch struct {
	cancel context.CancelFunc
	done   sync.WaitGroup
}

// watchEvery is how often a watched server is looked at.
const watchEvery = time.Second

// Watch restarts the server, at the same address, whenever it ends, until
// [Cluster.Stop].
func (c *Cluster) Watch(log *slog.Logger) {
	ctx, cancel := context.WithCancel(context.Background())
	c.watch.cancel = cancel
	c.watch.done.Go(func() {
		tick := time.NewTicker(watchEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				c.revive(ctx, log)
			}
		}
	})
}

func (w *watch) end() {
	if w.cancel != nil {
		w.cancel()
		w.done.Wait()
	}
}

// revive starts the server unless it answers.
func (c *Cluster) revive(ctx context.Context, log *slog.Logger) {
	conn, err := net.DialTimeout("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(c.port)), watchEvery)
	if err == nil {
		conn.Close()
		return
	}
	if _, ok := c.running(ctx); ok || ctx.Err() != nil {
		return // it is starting or stopping
	}
	log.Warn("the private PostgreSQL has ended; starting it again", "directory", c.dir)
	if err := c.start(ctx); err != nil && ctx.Err() == nil {
		log.Error("starting the private PostgreSQL", "error", err)
	}
}
