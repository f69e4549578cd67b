package console_test

import (
	"io"
	"log/slog"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

// The log of a task that runs is followed in the browser, goes on through a
// restart of the service, and is whole once the task has ended.
func TestAGrowingLogIsFollowedThroughARestart(t *testing.T) {
	cfg := service.Defaults()
	cfg.Data, cfg.Database, cfg.Listen, cfg.Log = t.TempDir(), trial.Database(t), "127.0.0.1:0", slog.New(slog.NewTextHandler(io.Discard, nil))
	running, err := service.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = running.Stop() })
	cfg.Listen = strings.TrimPrefix(running.URL, "http://")
	db, err := records.Open(t.Context(), cfg.Database)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	s := &trial.Service{Service: running, Config: cfg, DB: db, Repo: trial.Repository(t)}
	const until = "while [ ! -e %s ]; do sleep 0.02; done; "
	r := trial.New(t, map[string]string{"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.talk]
run = "echo first light; ` + strings.ReplaceAll(until, "%s", "more") + `echo fog ahead; ` + strings.ReplaceAll(until, "%s", "go") + `echo all fast"
reads = []
writes = []
probes = []
`, ".gitignore": "more\ngo\n"}).Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "harbour-ci")
	cmd := r.Command("run", "talk")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var id string
	trial.Wait(t, "the run is announced", func() bool {
		return db.Get(&id, `SELECT id FROM runs WHERE repository_id = (SELECT id FROM repositories WHERE name = $1)`, s.Repo) == nil
	})
	p := signedIn(t, s, "viewer")
	const pane = `section[aria-label="The selected task"]`
	p.open("/runs/"+id, pane, "first light")

	if err := running.Stop(); err != nil {
		t.Fatal(err)
	}
	r.Write("more", "")
	if running, err = service.Start(t.Context(), cfg); err != nil {
		t.Fatal(err)
	}
	p.says(pane, "fog ahead")
	r.Write("go", "")
	if err := cmd.Wait(); err != nil {
		t.Fatal(err)
	}
	p.says(pane, "Ran because")
	p.says(pane, "first light")
	p.says(pane, "all fast")
	var left int
	if err := db.Get(&left, `SELECT count(*) FROM growing_logs`); err != nil || left != 0 {
		t.Errorf("%d parts of growing logs are left, %v", left, err)
	}
}
