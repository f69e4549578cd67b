package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/trial"
)

// planned is the part of a plan that this test looks at, as PostgreSQL writes it
// in JSON.
type planned struct {
	Node      string    `json:"Node Type"`
	Relation  string    `json:"Relation Name"`
	Index     string    `json:"Index Name"`
	Condition string    `json:"Index Cond"`
	Plans     []planned `json:"Plans"`
}

var partition = regexp.MustCompile(`^(run_tasks|test_cases)`)

// scans returns what in a plan reads a whole partition, or all of a repository
// in it: no index has only the repository as its condition.
func (p planned) scans() (found []string) {
	switch {
	case strings.HasSuffix(p.Node, "Seq Scan") && partition.MatchString(p.Relation):
		found = append(found, "scans "+p.Relation)
	case p.Index != "" && (partition.MatchString(p.Relation) || partition.MatchString(p.Index)):
		condition := strings.ReplaceAll(p.Condition, "repository_id", "")
		if !regexp.MustCompile(`\b(began|task_id|log|run_id)\b`).MatchString(condition) {
			found = append(found, fmt.Sprintf("scans %s by %q only", p.Index, p.Condition))
		}
	}
	for _, q := range p.Plans {
		found = append(found, q.scans()...)
	}
	return found
}

// explained makes a database whose server writes the plan of each statement into
// its log, and in which a sequential scan is the last resort of the planner:
// small tables would be read as a whole.
func explained(t *testing.T) (url, log string) {
	t.Helper()
	url = trial.Database(t)
	db, err := sqlx.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var name, dir string
	if err := db.QueryRow(`SELECT current_database(), current_setting('data_directory')`).Scan(&name, &dir); err != nil {
		t.Fatal(err)
	}
	for _, set := range []string{
		"session_preload_libraries = 'auto_explain'", "auto_explain.log_min_duration = 0", "auto_explain.log_format = 'json'",
		"auto_explain.log_nested_statements = on", "enable_seqscan = off",
	} {
		if _, err := db.Exec(`ALTER DATABASE ` + name + ` SET ` + set); err != nil {
			t.Fatal(err)
		}
	}
	return url, filepath.Join(dir, "server.log")
}

// plansIn returns the plans in a log, from some byte on, by the text of their
// statement.
func plansIn(t *testing.T, log string, from int) map[string]planned {
	t.Helper()
	text, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]planned{}
	for _, part := range strings.Split(string(text[from:]), "plan:\n")[1:] {
		var entry struct {
			Query string  `json:"Query Text"`
			Plan  planned `json:"Plan"`
		}
		if err := json.NewDecoder(strings.NewReader(part)).Decode(&entry); err != nil {
			t.Fatal(err)
		}
		if partition.MatchString(entry.Plan.Relation) || strings.Contains(part, "run_tasks") || strings.Contains(part, "test_cases") {
			out[entry.Query] = entry.Plan
		}
	}
	return out
}

// No page, and nothing that happens while runs are recorded, reads all records
// of a repository.
func TestNoStatementScansAPartition(t *testing.T) {
	address, log := explained(t)
	s := trial.ServeWith(t, func(c *service.Config) { c.Database = address })
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.charts]
run = "cp in out"
reads = ["in"]
writes = ["out"]
probes = []
[task.fog]
run = "echo '<testsuite><testcase name=\"Fog\"/></testsuite>' > tests.xml"
reads = ["in"]
writes = []
reports = ["tests.xml"]
probes = []
`, "in": "0"}).Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "harbour-ci")
	change := func(text string) (run string) {
		r.Write("in", text)
		r.Commit(text)
		if rep := r.Run("--pick", "all"); !rep.OK {
			t.Fatal(rep)
		}
		trial.Wait(t, "the run is rolled up", func() bool {
			var waiting int
			return s.DB.QueryRow(`SELECT count(*) FILTER (WHERE rolled < through OR finished_at IS NULL), max(id) FROM runs`).Scan(&waiting, &run) == nil &&
				run != "" && waiting == 0
		})
		return run
	}
	change("1")
	multiply(t, s.DB.DB)
	small, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	run := change("2")
	token := s.TokenFor(t, s.Repo, "visitor", "", "trusted")
	task := url.QueryEscape("charts@test")
	for _, path := range []string{
		"runs?text=charts", "runs?task=" + task + "&task_outcome=ran&sort=saved", "runs/" + run, "runs/" + run + "/log?task=" + task,
		"runs/" + run + "/task?task=" + url.QueryEscape("fog@test"), "runs/" + run + "/difference?task=" + task + "&with=" + run,
		"runs/" + run + "/report/junit", "runs/" + run + "/report/html", "run-facets", "balance?task=" + task, "balance", "tasks?sort=hits", "tasks/" + task,
		"advice", "projects", "reach?path=in", "cache", "last-good?branch=main", "failed?branch=main",
	} {
		if code, text := fetched(t, s.URL+"/v1/"+s.Repo+"/"+path, token); code != http.StatusOK {
			t.Errorf("%s: %d %s", path, code, text)
		}
	}
	plans := plansIn(t, log, len(small))
	if len(plans) < 15 {
		t.Errorf("only %d statements read records", len(plans))
	}
	for query, plan := range plans {
		for _, found := range plan.scans() {
			t.Errorf("%s:\n%s", found, query)
		}
	}
}

// spread is a statement that adds rows for each task to every partition.
func spread(table, values string) string {
	return `INSERT INTO ` + table + ` SELECT x.* FROM (SELECT * FROM ` + table + ` LIMIT 1) t, tasks n, generate_series(1, 12) AS g,
		unnest(ARRAY[-20, -1, 0, 1, 2]) AS month, jsonb_populate_record(NULL::` + table + `, to_jsonb(t) || jsonb_build_object(
			'run_id', 'r' || g, 'began', t.began + g * interval '1 second' + month * interval '1 month', 'task_id', n.id` + values + `)) AS x`
}

// multiply adds records until the planner has a choice.
func multiply(t *testing.T, db *sqlx.DB) {
	t.Helper()
	for _, q := range []string{
		`INSERT INTO tasks (repository_id, name, project) SELECT (SELECT min(repository_id) FROM tasks), 't' || n || '@test', 'test'
			FROM generate_series(1, 300) AS n`,
		spread("run_tasks", `, 'key', null, 'log', null`), spread("test_cases", `, 'name', 'Test' || g`),
		`ANALYZE`,
	} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
}

func fetched(t *testing.T, address, token string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, address, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text := make([]byte, 300)
	n, _ := resp.Body.Read(text)
	return resp.StatusCode, string(text[:n])
}
