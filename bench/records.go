package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	"grayloft.example/grayloft/internal/service/cluster"
)

// secret finds the token in what demo/archive prints.
var secret = regexp.MustCompile(`loft-[a-z0-9]+`)

// asked is how often each question is asked.
const asked = 20

// question is something that a page asks, and the SQL that answers it.
type question struct {
	name, path, sql string
}

// questions are about the last 90 days, or 13 weeks, of skerry-archive, which is
// the first repository of its database.
var questions = []question{
	{"first page of Runs, 90 days", "/runs?days=90&limit=100", `
		SELECT count(*) FROM runs WHERE repository_id = 1 AND began >= now() - interval '90 days';
		SELECT * FROM runs WHERE repository_id = 1 AND began >= now() - interval '90 days' ORDER BY began DESC, id DESC LIMIT 100;`},
	{"balance by place, 90 days", "/balance?days=90&by=place", `
		SELECT place, floor(extract(epoch FROM hour - now()) / 86400)::int, sum(runs), sum(failed), sum(seconds), sum(saved_seconds),
			sum(cost_seconds), sum(fetch_seconds), sum(bytes_in), sum(bytes_out), sum(reused), sum(executed)
		FROM run_hours WHERE repository_id = 1 AND hour >= now() - interval '90 days' GROUP BY 1, 2;`},
	{"failed runs, longest first, 90 days", "/runs?days=90&outcome=failed&sort=took&limit=100", `
		SELECT count(*) FROM runs WHERE repository_id = 1 AND began >= now() - interval '90 days' AND NOT ok AND NOT interrupted
			AND finished_at IS NOT NULL;
		SELECT * FROM runs WHERE repository_id = 1 AND began >= now() - interval '90 days' AND NOT ok AND NOT interrupted
			AND finished_at IS NOT NULL ORDER BY seconds DESC, id DESC LIMIT 100;`},
	{"Tasks by hit rate, 13 weeks", "/tasks?weeks=13&sort=hits&limit=100", `
		SELECT task_id, sum(n) AS n, sum(n) FILTER (WHERE outcome IN ('ran', 'failed')) AS executed,
			sum(n) FILTER (WHERE outcome = 'failed') AS failed, sum(n) FILTER (WHERE outcome IN ('cached', 'restored', 'fetched')) AS reused,
			sum(same_outputs), sum(run_seconds), sum(saved_seconds), sum(fetch_seconds), sum(bytes_in), sum(bytes_out), sum(critical_runs)
		FROM task_weeks WHERE repository_id = 1 AND week >= date_trunc('week', now() - interval '84 days') GROUP BY 1
		ORDER BY sum(n) FILTER (WHERE outcome IN ('cached', 'restored', 'fetched')) LIMIT 100;
		SELECT task_id, week, sum(run_seconds) FROM task_weeks WHERE repository_id = 1 AND task_id BETWEEN 100 AND 200
			AND week >= date_trunc('week', now() - interval '84 days') GROUP BY 1, 2;`},
	{"one task, a year", "/tasks/compile@fare-meter?weeks=52", `
		SELECT id FROM tasks WHERE repository_id = 1 AND name = 'compile@fare-meter' \gset
		SELECT outcome, sum(n), sum(seconds), sum(run_seconds), sum(fetch_seconds), sum(saved_seconds), sum(bytes_in) FROM task_weeks
		WHERE repository_id = 1 AND task_id = :id AND week >= now() - interval '364 days' GROUP BY 1;
		SELECT week, sum(run_seconds) FROM task_weeks WHERE repository_id = 1 AND task_id = :id AND week >= now() - interval '364 days' GROUP BY 1;
		SELECT place, outcome, count(*), percentile_cont(ARRAY[0, 0.25, 0.5, 0.75, 1]) WITHIN GROUP (ORDER BY seconds),
			percentile_disc(ARRAY(SELECT (i + 0.5) / 200 FROM generate_series(0, 199) AS i)) WITHIN GROUP (ORDER BY seconds) FROM run_tasks
		WHERE repository_id = 1 AND task_id = :id AND began >= now() - interval '364 days' AND outcome IN ('ran', 'fetched') GROUP BY 1, 2;
		SELECT began, run_id, place, outcome, reason, seconds FROM run_tasks WHERE repository_id = 1 AND task_id = :id
			AND began >= now() - interval '364 days' AND outcome IN ('ran', 'failed', 'fetched', 'restored') ORDER BY began DESC LIMIT 2000;
		SELECT date_trunc('week', began), reason, count(*) FROM run_tasks WHERE repository_id = 1 AND task_id = :id
			AND began >= now() - interval '364 days' AND outcome IN ('ran', 'failed') GROUP BY 1, 2;
		SELECT path, sum(reruns), sum(same_outputs), sum(seconds) FROM task_causes WHERE repository_id = 1 AND task_id = :id
			AND week >= now() - interval '364 days' GROUP BY 1 ORDER BY 2 DESC LIMIT 50;
		SELECT name, count(*) FILTER (WHERE result = 'failed') FROM test_cases WHERE repository_id = 1 AND task_id = :id
			AND began >= now() - interval '364 days' GROUP BY 1;
		SELECT * FROM unstable_keys WHERE repository_id = 1 AND task_id = :id;
		SELECT sum(runs), sum(worked) FROM run_hours WHERE repository_id = 1 AND hour >= now() - interval '364 days';
		SELECT place, outcome, bucket, sum(k) FROM task_weeks, unnest(buckets, counts) AS u (bucket, k)
		WHERE repository_id = 1 AND task_id = :id AND week >= now() - interval '364 days' AND outcome IN ('ran', 'fetched') GROUP BY 1, 2, 3;`},
	{"advice, 13 weeks", "/advice?weeks=13", `
		SELECT task_id, place, outcome = 'fetched', bucket, sum(k), sum(seconds * k / n) FROM task_weeks, unnest(buckets, counts) AS u (bucket, k)
		WHERE repository_id = 1 AND week >= date_trunc('week', now() - interval '84 days') AND outcome IN ('ran', 'fetched') GROUP BY 1, 2, 3, 4;
		SELECT task_id, place, sum(critical_runs), sum(critical), sum(seconds), sum(bytes_in) FROM task_weeks
		WHERE repository_id = 1 AND week >= date_trunc('week', now() - interval '84 days') GROUP BY 1, 2;
		SELECT task_id, path, sum(reruns), sum(same_outputs), sum(seconds) FROM task_causes
		WHERE repository_id = 1 AND week >= date_trunc('week', now() - interval '84 days') GROUP BY 1, 2 HAVING sum(reruns) >= 10;
		SELECT path, sum(reruns), sum(same_outputs), count(DISTINCT task_id) FROM task_causes
		WHERE repository_id = 1 AND week >= date_trunc('week', now() - interval '84 days') GROUP BY 1 ORDER BY 2 DESC LIMIT 50;
		SELECT * FROM unstable_keys WHERE repository_id = 1 AND last_at >= now() - interval '90 days';`},
}

const recordsPrefix = "records: "

func (q question) title() string {
	return fmt.Sprintf("%s%d × %s, against pgbench", recordsPrefix, asked, q.name)
}

// records returns the rows about generated records, and what stops their
// service. Filling the database takes a few minutes, once.
func (b *bench) records(only string) (rows []row, stop func(), err error) {
	wanted := false
	for _, q := range questions {
		wanted = wanted || strings.Contains(q.title(), only)
	}
	if !wanted {
		return nil, func() {}, nil
	}
	ctx, cancel := context.WithCancel(context.Background())
	f := &fleet{b: b, ctx: ctx, stopped: []func(){cancel}}
	if err := f.serveArchive(filepath.Join(b.dir, "archive")); err != nil {
		f.stop()
		return nil, nil, err
	}
	for i, q := range questions {
		script := filepath.Join(b.dir, "archive", fmt.Sprintf("question%d.sql", i))
		if err := os.WriteFile(script, []byte(q.sql+"\n"), 0o644); err != nil {
			return nil, f.stop, err
		}
		rows = append(rows, row{
			name: q.title(), goal: 2, in: "tenth",
			ours: side{do: func() error { return f.ask(q.path) }},
			baseline: side{run: fmt.Sprintf("pgbench -n -c 1 -t %d -f %s '%s' > /dev/null",
				asked, script, f.db)},
		})
	}
	return rows, f.stop, nil
}

// serveArchive starts a service with skerry-archive.
func (f *fleet) serveArchive(dir string) error {
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) { // PostgreSQL's own user must be able to reach it
		if err := os.MkdirAll(d, 0o755); err != nil {
			return err
		}
	}
	cl, err := cluster.Start(f.ctx, filepath.Join(dir, "postgres"))
	if err != nil {
		return err
	}
	f.stopped = append(f.stopped, func() { _ = cl.Stop() })
	if err := cl.EnsureDatabase(f.ctx, "archive"); err != nil {
		return err
	}
	f.db = cl.URL("archive")
	fmt.Fprintln(os.Stderr, "filling skerry-archive, unless it is there")
	out, err := exec.Command("go", "run", "./demo/archive", "--database", f.db).Output()
	if err != nil {
		return fmt.Errorf("demo/archive: %w: %s", err, out)
	}
	if err := os.RemoveAll(filepath.Join(dir, "ready")); err != nil {
		return err
	}
	if err := f.serve(dir); err != nil {
		return err
	}
	f.token = secret.FindString(string(out))
	return nil
}

// ask asks the service a question, again and again.
func (f *fleet) ask(path string) error {
	for range asked {
		req, err := http.NewRequestWithContext(f.ctx, http.MethodGet, f.url+"/v1/skerry-archive"+path, nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+f.token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		text, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || resp.StatusCode != http.StatusOK {
			return fmt.Errorf("%s: %s %v %s", path, resp.Status, err, lastLines(string(text)))
		}
	}
	return nil
}
