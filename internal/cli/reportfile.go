package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2/maybe"

	"grayloft.example/grayloft/internal/core/critical"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/report"
	"grayloft.example/grayloft/internal/core/tasklog"
	"grayloft.example/grayloft/internal/machine/engine"
	"grayloft.example/grayloft/internal/protocol"
)

// reportFile is one --report KIND=FILE.
type reportFile struct {
	kind report.Kind
	file string
}

// parseReports reads the values of --report, before anything runs.
func parseReports(list []string) ([]reportFile, error) {
	var out []reportFile
	for _, text := range list {
		kind, file, ok := strings.Cut(text, "=")
		if !ok || file == "" || !slices.Contains(report.Kinds, report.Kind(kind)) {
			return nil, wrong("--report %q: write it like html=report.html, junit=report.xml or trace=trace.json", text)
		}
		if info, err := os.Stat(filepath.Dir(file)); err != nil || !info.IsDir() {
			return nil, wrong("--report %s: there is no directory %s", text, filepath.Dir(file))
		}
		out = append(out, reportFile{report.Kind(kind), file})
	}
	return out, nil
}

const reportedLines = 400 // of the log of a failure, the last ones

// writeAll writes the reports of a run, and sends its spans.
func (a *app) writeAll(ctx context.Context, s *session, files []reportFile, run protocol.Run, sum *engine.Summary) error {
	if err := exportSpans(ctx, run, s.graph.Repo.Name, sum); err != nil {
		fmt.Fprintln(a.Err, "warning: the run was not exported:", err)
	}
	return s.writeReports(ctx, files, run, sum)
}

// writeReports writes the reports of a run.
func (s *session) writeReports(ctx context.Context, files []reportFile, run protocol.Run, sum *engine.Summary) error {
	if len(files) == 0 {
		return nil
	}
	row := protocol.RunRow{
		Run: run,
		RunFinish: protocol.RunFinish{
			OK: sum.OK(), Interrupted: sum.Interrupted, Seconds: sum.Took.Seconds(), SavedSeconds: sum.Saved(),
			CostSeconds: (sum.Fetching + sum.Uploading).Seconds(), BytesOut: sum.BytesOut,
		},
	}
	var records []protocol.TaskRecord
	for _, r := range sum.Results {
		records = append(records, recordOf(r))
		row.BytesIn += r.Sharing.BytesIn
	}
	out := row.Report(s.graph.Repo.Name, records)
	addToReport(&out, sum)
	for _, f := range files {
		text, err := report.Write(f.kind, out)
		if err == nil {
			err = maybe.WriteFile(f.file, text, 0o644)
		}
		if err != nil {
			return machineFault("--report %s=%s: %v", f.kind, f.file, err)
		}
	}
	return nil
}

// addToReport adds logs, test cases and the critical path.
func addToReport(out *report.Run, sum *engine.Summary) {
	spans := map[string]critical.Span{}
	for i, r := range sum.Results {
		span := critical.Span{At: r.Timing.At.Seconds(), Seconds: r.Timing.Took.Seconds(), Worked: r.Outcome.IsWork()}
		for _, u := range r.Task.Dependencies {
			span.Dependencies = append(span.Dependencies, u.Addr())
		}
		spans[r.Task.Addr()] = span
		if r.Outcome == decide.Failed {
			out.Tasks[i].Log = report.Tail(tasklog.Parse(r.LogText), reportedLines)
		}
		if r.Ran != nil {
			out.Tasks[i].Cases = r.Ran.Cases
		}
	}
	path := critical.Path(spans)
	for i := range out.Tasks {
		out.Tasks[i].Critical = slices.Contains(path, out.Tasks[i].Address)
	}
}
