package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
)

// spansLimit is how long the end of a run waits for a collector.
const spansLimit = 5 * time.Second

// exportsSpans tells whether a collector of OpenTelemetry spans is named, by the
// variables of its specification.
func exportsSpans() bool {
	return os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT") != "" || os.Getenv("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT") != ""
}

// exportSpans sends a run as spans: one of the run, one of each task that took
// work, and one of each transfer. A collector that does not answer costs a
// warning, never the run.
func exportSpans(ctx context.Context, run protocol.Run, repo string, sum *engine.Summary) error {
	if !exportsSpans() {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, spansLimit)
	defer cancel()
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithRetry(otlptracehttp.RetryConfig{Enabled: false}))
	if err != nil {
		return fmt.Errorf("OpenTelemetry: %w", err)
	}
	noting := &notingExporter{SpanExporter: exporter}
	provider := sdktrace.NewTracerProvider(
		sdktrace.WithBatcher(noting, sdktrace.WithBlocking()),
		sdktrace.WithResource(resource.NewSchemaless(
			attribute.String("service.name", "grayloft"), attribute.String("host.name", run.Host))),
	)
	tracer := provider.Tracer("grayloft.example/grayloft")
	top, whole := tracer.Start(ctx, "run", trace.WithTimestamp(run.Started), trace.WithAttributes(
		attribute.String(
			"grayloft.run",
			run.ID,
		),
		attribute.String("grayloft.repository", repo),
		attribute.String("grayloft.place", run.Place),
		attribute.String("vcs.ref.head.name", run.Branch),
		attribute.String("vcs.ref.head.revision", run.Commit),
		attribute.StringSlice("grayloft.requested", run.Requested),
	))
	for _, r := range sum.Results {
		if r.Outcome.IsWork() {
			taskSpan(top, tracer, run.Started, r)
		}
	}
	if !sum.OK() {
		whole.SetStatus(codes.Error, "a task failed, or the run was interrupted")
	}
	whole.End(trace.WithTimestamp(run.Started.Add(sum.Took)))
	if err := errors.Join(provider.Shutdown(ctx), noting.first); err != nil {
		return fmt.Errorf("OpenTelemetry: %w", err)
	}
	return nil
}

// notingExporter keeps the first error of an exporter: the library would print
// each of them. It is read after the provider was shut down.
type notingExporter struct {
	sdktrace.SpanExporter
	first error
}

// ExportSpans implements [sdktrace.SpanExporter].
func (n *notingExporter) ExportSpans(ctx context.Context, spans []sdktrace.ReadOnlySpan) error {
	if err := n.SpanExporter.ExportSpans(ctx, spans); err != nil && n.first == nil {
		n.first = err
	}
	return nil
}

func taskSpan(ctx context.Context, tracer trace.Tracer, began time.Time, r *engine.Result) {
	start := began.Add(r.Timing.At)
	ctx, span := tracer.Start(ctx, r.Task.Addr(), trace.WithTimestamp(start), trace.WithAttributes(
		attribute.String("grayloft.task", r.Task.Addr()), attribute.String("grayloft.project", r.Task.Project.Name),
		attribute.String("grayloft.outcome", string(r.Outcome)), attribute.String("grayloft.reason", string(r.Reason)),
		attribute.Int("grayloft.slot", r.Timing.Slot)))
	if r.Sharing.BytesIn > 0 {
		_, transfer := tracer.Start(ctx, "transfer", trace.WithTimestamp(start), trace.WithAttributes(
			attribute.Int64("grayloft.bytes", r.Sharing.BytesIn)))
		transfer.End(trace.WithTimestamp(start.Add(r.Sharing.Cost)))
	}
	if r.Outcome == decide.Failed {
		span.SetStatus(codes.Error, r.Message)
	}
	span.End(trace.WithTimestamp(start.Add(r.Timing.Took)))
}
