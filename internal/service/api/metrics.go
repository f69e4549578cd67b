package api

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"

	"grayloft.example/grayloft/internal/service/records"
)

// metrics follow the naming conventions of Prometheus
// (https://prometheus.io/docs/practices/naming/): one unit per metric, with the
// unit in its name.
type metrics struct {
	registry *prometheus.Registry
	http     httpMetrics
	cache    cacheMetrics
	stored   storedMetrics
	cleanup  cleanupMetrics
}

type httpMetrics struct {
	requests *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	limited  *prometheus.CounterVec
}

type cacheMetrics struct {
	received, sent prometheus.Counter
	lookups        prometheus.Counter
	answers        prometheus.Counter
	uploads        prometheus.Gauge
}

// storedMetrics describe the contents of each repository.
type storedMetrics struct {
	blobs, bytes, marked, entries, runs, quota *prometheus.GaugeVec
}

// cleanupMetrics count what the cleanups of this replica did.
type cleanupMetrics struct {
	entries, runs, marked, unmarked, blobs, bytes prometheus.Counter
}

// registrar makes metrics and registers each of them.
type registrar struct{ to *prometheus.Registry }

func (r registrar) counter(name, help string) prometheus.Counter {
	c := prometheus.NewCounter(prometheus.CounterOpts{Name: "grayloft_" + name, Help: help})
	r.to.MustRegister(c)
	return c
}

func (r registrar) counters(name, help string, labels ...string) *prometheus.CounterVec {
	c := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "grayloft_" + name, Help: help}, labels)
	r.to.MustRegister(c)
	return c
}

func (r registrar) gauges(name, help string) *prometheus.GaugeVec {
	g := prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "grayloft_" + name, Help: help}, []string{"repo"})
	r.to.MustRegister(g)
	return g
}

func newMetrics() *metrics {
	r := registrar{prometheus.NewRegistry()}
	return &metrics{
		registry: r.to,
		http:     newHTTPMetrics(r),
		cache:    newCacheMetrics(r),
		stored:   newStoredMetrics(r),
		cleanup:  newCleanupMetrics(r),
	}
}

func newHTTPMetrics(r registrar) httpMetrics {
	m := httpMetrics{
		requests: r.counters("http_requests_total", "Requests by method, route and status.", "method", "route", "status"),
		limited:  r.counters("http_requests_limited_total", "Requests refused by a limit: rate, uploads or quota.", "limit"),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "grayloft_http_request_duration_seconds", Help: "Time to answer, by method and route.",
			Buckets: prometheus.ExponentialBuckets(0.001, 3, 10),
		}, []string{"method", "route"}),
	}
	r.to.MustRegister(m.seconds)
	return m
}

func newCacheMetrics(r registrar) cacheMetrics {
	m := cacheMetrics{
		received: r.counter("received_bytes_total", "Bytes of blobs received."),
		sent:     r.counter("sent_bytes_total", "Bytes of blobs sent."),
		lookups:  r.counter("lookup_tasks_total", "Tasks looked up."),
		answers:  r.counter("lookup_entries_total", "Entries returned by lookups."),
		uploads:  prometheus.NewGauge(prometheus.GaugeOpts{Name: "grayloft_uploads_in_progress", Help: "Uploads in progress."}),
	}
	r.to.MustRegister(m.uploads)
	return m
}

func newStoredMetrics(r registrar) storedMetrics {
	return storedMetrics{
		blobs:   r.gauges("stored_blobs", "Blobs of a repository."),
		bytes:   r.gauges("stored_bytes", "Bytes of a repository's blobs."),
		marked:  r.gauges("stored_marked_bytes", "Bytes of blobs that are marked for deletion."),
		entries: r.gauges("stored_entries", "Entries of a repository."),
		runs:    r.gauges("stored_runs", "Recorded runs of a repository."),
		quota:   r.gauges("quota_bytes", "Quota of a repository; 0: unlimited."),
	}
}

func newCleanupMetrics(r registrar) cleanupMetrics {
	return cleanupMetrics{
		entries:  r.counter("cleanup_removed_entries_total", "Entries removed by cleanups."),
		runs:     r.counter("cleanup_removed_runs_total", "Records of runs removed by cleanups."),
		marked:   r.counter("cleanup_marked_blobs_total", "Blobs marked for deletion."),
		unmarked: r.counter("cleanup_unmarked_blobs_total", "Blobs unmarked because they are referenced again."),
		blobs:    r.counter("cleanup_deleted_blobs_total", "Blobs deleted by cleanups."),
		bytes:    r.counter("cleanup_deleted_bytes_total", "Bytes of blobs deleted by cleanups."),
	}
}

// NoteCleanup updates the metrics with what a cleanup of this replica did.
func (s *Server) NoteCleanup(ctx context.Context, done records.Cleanup) {
	s.Recount()
	if list, err := s.Records.Usage(ctx); err == nil {
		s.ReportUsage(list, done)
	}
}

// afterCleanup updates the metrics after a cleanup of any replica.
func (s *Server) afterCleanup(ctx context.Context) { go s.NoteCleanup(ctx, records.Cleanup{}) }

// EndStreams ends the streams of live changes, which would keep the service from
// stopping.
func (s *Server) EndStreams() {
	s.hub.close()
	s.Fleet.Close()
}

// ReportUsage updates the metrics with what repositories store and what a
// cleanup did.
func (s *Server) ReportUsage(list []records.Usage, done records.Cleanup) {
	m := &s.metrics.stored
	for _, u := range list {
		quota := u.Quota
		if quota == 0 {
			quota = s.Limits.Quota
		}
		m.blobs.WithLabelValues(u.Name).Set(float64(u.Blobs))
		m.bytes.WithLabelValues(u.Name).Set(float64(u.Bytes))
		m.marked.WithLabelValues(u.Name).Set(float64(u.MarkedBytes))
		m.entries.WithLabelValues(u.Name).Set(float64(u.Entries))
		m.runs.WithLabelValues(u.Name).Set(float64(u.Runs))
		m.quota.WithLabelValues(u.Name).Set(float64(quota))
	}
	c := &s.metrics.cleanup
	c.entries.Add(float64(done.Entries))
	c.runs.Add(float64(done.Runs))
	c.marked.Add(float64(done.Marked))
	c.unmarked.Add(float64(done.Unmarked))
	c.blobs.Add(float64(done.Deleted))
	c.bytes.Add(float64(done.Bytes))
}

// measure counts a request. Methods that no route has are one label value:
// anybody can invent more.
func (s *Server) measure(c *gin.Context) {
	began := time.Now()
	c.Next()
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	method := c.Request.Method
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodOptions:
	default:
		method = "other"
	}
	s.metrics.http.requests.WithLabelValues(method, route, strconv.Itoa(c.Writer.Status())).Inc()
	s.metrics.http.seconds.WithLabelValues(method, route).Observe(time.Since(began).Seconds())
}
