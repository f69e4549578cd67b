package api

import (
	"github.com/prometheus/client_golang/prometheus"

	"grayloft.example/grayloft/internal/service/records"
)

type metrics struct {
	registry  *prometheus.Registry
	requests  *prometheus.CounterVec
	seconds   *prometheus.HistogramVec
	moved     *prometheus.CounterVec
	entries   *prometheus.CounterVec
	limited   *prometheus.CounterVec
	uploading prometheus.Gauge
	held      *prometheus.GaugeVec
	cleanup   *prometheus.CounterVec
}

func newMetrics() *metrics {
	counter := func(name, help string, labels ...string) *prometheus.CounterVec {
		return prometheus.NewCounterVec(prometheus.CounterOpts{Name: name, Help: help}, labels)
	}
	m := &metrics{
		registry:  prometheus.NewRegistry(),
		requests:  counter("grayloft_requests_total", "Requests by route and status.", "method", "route", "status"),
		seconds:   prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "grayloft_request_seconds", Help: "Time to answer, by route.", Buckets: prometheus.ExponentialBuckets(0.001, 3, 10)}, []string{"method", "route"}),
		moved:     counter("grayloft_blob_bytes_total", "Bytes of blobs that came in and went out.", "way"),
		entries:   counter("grayloft_lookups_total", "Tasks looked up, and entries answered.", "what"),
		limited:   counter("grayloft_limited_total", "Requests that a limit turned away: rate, uploads or quota.", "limit"),
		uploading: prometheus.NewGauge(prometheus.GaugeOpts{Name: "grayloft_uploads", Help: "Uploads that go on."}),
		held:      prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "grayloft_held", Help: "What a repository holds: blobs, bytes, condemned bytes, entries, runs, and its quota in bytes (0: none)."}, []string{"repo", "what"}),
		cleanup:   counter("grayloft_swept_total", "What the sweeper of this replica did: entries and runs let go, blobs condemned, spared and deleted, bytes deleted.", "what"),
	}
	m.registry.MustRegister(m.requests, m.seconds, m.moved, m.entries, m.limited, m.uploading, m.held, m.cleanup)
	return m
}

// Holds tells the metrics what repositories hold, and what a pass of the
// sweeper did.
func (s *Server) ReportUsage(list []records.Usage, swept records.Cleanup) {
	for _, u := range list {
		quota := u.Quota
		if quota == 0 {
			quota = s.Limits.Quota
		}
		for what, n := range map[string]int64{
			"blobs": u.Blobs, "bytes": u.Bytes, "condemned_bytes": u.MarkedBytes, "entries": u.Entries, "runs": u.Runs, "quota_bytes": quota,
		} {
			s.metrics.held.WithLabelValues(u.Name, what).Set(float64(n))
		}
	}
	for what, n := range map[string]int64{
		"entries": swept.Entries, "runs": swept.Runs, "condemned": swept.Marked, "spared": swept.Unmarked, "deleted": swept.Deleted, "bytes": swept.Bytes,
	} {
		s.metrics.cleanup.WithLabelValues(what).Add(float64(n))
	}
}
