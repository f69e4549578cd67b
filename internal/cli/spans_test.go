package cli_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	"google.golang.org/protobuf/proto"

	"grayloft.example/grayloft/internal/trial"
)

// A run is exported as a span with one of each task below it; a collector that
// fails or does not exist costs a warning.
func TestARunIsExportedAsSpans(t *testing.T) {
	var mu sync.Mutex
	names, parents := map[string]string{}, map[string]string{} // by id
	status := http.StatusOK
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		var req collector.ExportTraceServiceRequest
		if err := proto.Unmarshal(body, &req); err != nil || r.URL.Path != "/v1/traces" {
			t.Errorf("%s: %v", r.URL.Path, err)
		}
		mu.Lock()
		defer mu.Unlock()
		for _, rs := range req.ResourceSpans {
			for _, ss := range rs.ScopeSpans {
				for _, s := range ss.Spans {
					names[string(s.SpanId)], parents[s.Name] = s.Name, string(s.ParentSpanId)
				}
			}
		}
		w.WriteHeader(status)
	}))
	defer server.Close()
	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", server.URL)
	r := trial.New(t, quay)
	r.Run("charts")
	mu.Lock()
	if len(names) != 2 || names[parents["charts@test"]] != "run" {
		t.Errorf("%v %v", names, parents)
	}
	status = http.StatusForbidden
	mu.Unlock()
	if a := r.Grayloft("run", "charts", "--no-reuse"); a.Code != 0 || !strings.Contains(a.Err, "was not exported") {
		t.Errorf("a collector that refuses: %d %s", a.Code, a.Err)
	}
	server.Close()
	if a := r.Grayloft("run", "charts", "--no-reuse"); a.Code != 0 || strings.Count(a.Err, "was not exported") != 1 {
		t.Errorf("without a collector: %d %s", a.Code, a.Err)
	}
}
