// Package api is the service's HTTP interface: the protocol under /v1/{repo},
// the console's session, metrics, and the OpenAPI document that describes it
// all. It checks everything that comes in, and leaves records and blobs to
// their packages.
package api

import (
	"context"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/announce"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/records"
)

// Server answers requests. Console serves what is not part of the protocol.
type Server struct {
	Records *records.DB
	Blobs   blobs.Store
	// Declarations are those that runs recorded.
	Declarations *insight.Declarations
	Retention    records.Retention // of repositories without their own
	Console      http.Handler
	Log          *slog.Logger
	Secure       bool // the console's cookie requires TLS
	Limits       Limits
	Fleet        *fleet.Fleet
	Pushes       []fleet.Trigger // that start runs
	Announcer    *announce.Announcer
	Lease        time.Duration // of claims; 0: [protocol.ClaimLease]

	hub     *hub
	metrics *metrics
	limits  *limits
	uses    *uses

	ledger *ledger

	tokensKnown   *answers[string, records.Token]
	sessionsKnown *answers[records.Session, knownSession]
	blobsKnown    *answers[blobKey, records.Blob]
	packsKnown    *answers[packKey, packPlan]
}

// Handler returns the server's routes. Ctx ends background work.
func (s *Server) Handler(ctx context.Context) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	s.tokensKnown = newAnswers[string, records.Token](mostKept, tokenHolds)
	s.blobsKnown = newAnswers[blobKey, records.Blob](mostKept, blobHolds)
	s.sessionsKnown = newAnswers[records.Session, knownSession](mostKept, tokenHolds)
	s.packsKnown = newAnswers[packKey, packPlan](mostPacks, blobHolds)
	s.hub = newHub(s.Log, func() { s.tokensKnown.clear(); s.sessionsKnown.clear() }, func() { s.afterCleanup(ctx) })
	s.hub.requests = s.Fleet.Changed
	go s.hub.follow(ctx, s.Records)
	s.metrics, s.limits, s.uses = newMetrics(), newLimits(s.Limits), newUses()
	s.ledger = &ledger{count: s.Records.StoredBytes, quota: s.Limits.Quota, of: map[int64]*account{}}
	go s.flushUses(ctx)

	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.Use(s.name, s.recover, s.measure, s.secureHeaders, s.keepSteady, s.cleanAddress)
	r.GET("/healthz", s.health)
	r.GET("/metrics", gin.WrapH(promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{})))
	r.GET("/openapi.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/json", document) })
	r.POST("/session", s.signIn)
	r.GET("/session", s.session)
	r.DELETE("/session", s.signOut)

	r.POST("/"+protocol.Version+"/:repo/push", s.push)

	v := r.Group("/"+protocol.Version+"/:repo", s.authenticate, s.limitRate)
	v.GET("/self", s.self)
	v.POST("/self/rotate", s.rotate)
	v.POST("/entries/lookup", s.lookup)
	v.POST("/blobs/missing", s.missing)
	v.GET("/blobs/:digest", s.getBlob)
	v.HEAD("/blobs/:digest", s.getBlob)
	v.POST("/packs/fetch", s.fetchPack)
	v.GET("/entries", s.entries)
	v.POST("/entries/:key/withdraw", s.withdraw)
	v.GET("/last-good", s.lastGood)
	v.GET("/failed", s.failed)
	v.GET("/runs/:id/log", s.requireLog, s.runLog)
	write := v.Group("", s.requireWrite)
	write.PUT("/entries/:key", s.file)
	write.PUT("/blobs/:digest", s.limitUploads, s.putBlob)
	write.POST("/blobs/:digest/assembly", s.limitUploads, s.assemble)
	write.POST("/packs", s.limitUploads, s.putPack)
	write.POST("/runs", s.startRun)
	write.POST("/runs/:id/events", s.addEvents)
	write.POST("/runs/:id/logs", s.addLines)
	write.PUT("/graphs/:digest", s.putGraph)
	write.POST("/claims", s.claim)
	write.POST("/claims/:id/renew", s.renewClaim)
	write.DELETE("/claims/:id", s.endClaim)
	write.POST("/parts/:digest", s.parts)
	write.POST("/joins", s.join)
	write.POST("/joins/:id/tasks", s.joinStep)
	write.POST("/joins/:id/reports", s.joinReport)
	s.recordRoutes(v)
	s.fleetRoutes(v)

	r.NoMethod(func(c *gin.Context) {
		problem(c, http.StatusMethodNotAllowed, "this address does not support "+c.Request.Method, "")
	})
	r.NoRoute(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/"+protocol.Version+"/") || s.Console == nil {
			problem(c, http.StatusNotFound, "there is nothing at this address", c.Request.URL.Path)
			return
		}
		s.Console.ServeHTTP(c.Writer, c.Request)
	})
	return r
}

// recordRoutes are the routes by which people look at records, and manage them.
func (s *Server) recordRoutes(v *gin.RouterGroup) {
	look := v.Group("", s.requireView)
	look.GET("/runs", s.runs)
	look.GET("/runs/:id", s.run)
	look.GET("/runs/:id/task", s.runTask)
	look.GET("/runs/:id/difference", s.difference)
	look.GET("/runs/:id/report/:kind", s.runReport)
	look.GET("/run-facets", s.facets)
	look.GET("/balance", s.balance)
	look.GET("/tasks", s.tasks)
	look.GET("/tasks/:task", s.task)
	look.GET("/advice", s.advice)
	look.GET("/projects", s.projects)
	look.GET("/reach", s.reach)
	look.GET("/cache", s.cache)
	look.GET("/entries/:key", s.entry)
	look.GET("/live", s.live)

	manage := v.Group("", s.requireManage)
	manage.PUT("/cache/retention", s.setRetention)
	manage.GET("/tokens", s.tokens)
	manage.POST("/tokens", s.makeToken)
	manage.POST("/tokens/:id/rotate", s.rotateToken)
	manage.DELETE("/tokens/:id", s.revokeToken)
	manage.GET("/audit", s.audit)
	manage.GET("/receivers", s.receivers)
	manage.POST("/receivers", s.addReceiver)
	manage.DELETE("/receivers/:id", s.removeReceiver)
}

func (s *Server) health(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
	defer cancel()
	if err := s.Records.PingContext(ctx); err != nil {
		problem(c, http.StatusServiceUnavailable, "the database does not answer", "")
		return
	}
	c.JSON(http.StatusOK, gin.H{"ok": true})
}
