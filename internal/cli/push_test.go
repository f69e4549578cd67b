package cli_test

import (
	"bytes"
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/daemon"
	"grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/trial"
)

const pushSecret = "whsec_Z3VsbCBoYXZlbiwgdGhvcm5ob2xtLCBlZWxwb3J0"

// pushes makes a crew whose service starts runs after pushes to main and release branches,
// and installs the example hook in the origin.
func pushes(t *testing.T) *crew {
	t.Helper()
	trigger := fleet.Trigger{
		Repository: trial.Repository(t), Name: "ci", Branches: []string{"main", "release/*"}, Secret: pushSecret,
		Ask: protocol.Ask{Pool: "linux", Tasks: []string{"build"}},
	}
	y := newCrewWith(t, lib("mkdir -p out && cat in > out/out"), func(c *service.Config) { c.Pushes = []fleet.Trigger{trigger} })
	hook, err := os.ReadFile("../../deploy/post-receive")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(y.origin, "hooks", "post-receive"), hook, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(y.dir, "secret"), []byte(pushSecret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("GRAYLOFT_PUSH_URL", y.s.URL+"/v1/"+y.s.Repo+"/push")
	t.Setenv("GRAYLOFT_PUSH_SECRET", filepath.Join(y.dir, "secret"))
	return y
}

func TestAPushStartsARun(t *testing.T) {
	y := pushes(t)
	y.runner("north")
	y.Append("lib/in", "pushed\n")
	y.Commit("pushed")
	out := y.Git("push", "origin", "main", "main:release/4", "main:quay")
	if strings.Contains(out, "was not told") {
		t.Fatal(out)
	}
	for _, id := range []string{"1", "2"} {
		if a := y.Grayloft("requests", id, "--watch"); a.Code != 0 || !strings.Contains(a.Err, "passed on north") {
			t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
		}
	}
	a := y.Grayloft("requests")
	if strings.Count(a.Out, "\n") != 3 || !strings.Contains(a.Out, "release/4") || strings.Contains(a.Out, "quay") ||
		!strings.Contains(a.Out, "ci") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	if a := y.Grayloft("requests", "1"); !strings.Contains(a.Out, "results go to branch/main") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	// A branch that is deleted starts nothing, and a service that is away stops no push.
	y.Git("push", "origin", ":release/4")
	t.Setenv("GRAYLOFT_PUSH_URL", "http://127.0.0.1:1/")
	y.Commit("more")
	if out := y.Git("push", "origin", "main"); !strings.Contains(out, "Gray Loft was not told about main") {
		t.Errorf("%s", out)
	}
	if a := y.Grayloft("requests"); strings.Count(a.Out, "\n") != 3 {
		t.Errorf("%s", a.Out)
	}
}

func TestAPushThatIsNotSignedStartsNothing(t *testing.T) {
	y := pushes(t)
	commit := y.Git("rev-parse", "HEAD")
	send := func(repo string, header map[string]string) int {
		t.Helper()
		body := `{"branch":"main","commit":"` + commit + `"}`
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, y.s.URL+"/v1/"+repo+"/push", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		for k, v := range header {
			req.Header.Set(k, v)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	now := time.Now().UTC().Format("20060102")
	for what, got := range map[string]int{
		"no signature":       send(y.s.Repo, nil),
		"a wrong signature":  send(y.s.Repo, map[string]string{"webhook-id": "x", "webhook-timestamp": now, "webhook-signature": "v1,AAAA"}),
		"another repository": send("other", nil),
	} {
		if got != http.StatusUnauthorized {
			t.Errorf("%s: %d", what, got)
		}
	}
	if a := y.Grayloft("requests"); !strings.HasPrefix(a.Out, "No request") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
}

// The example of a configuration is valid, and mistakes in one are named.
func TestTheConfigurationOfTheServiceIsChecked(t *testing.T) {
	text, err := os.ReadFile("../../deploy/grayloft.example.toml")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "push-secret"), []byte(pushSecret), 0o600); err != nil {
		t.Fatal(err)
	}
	start := func(text string) string {
		t.Helper()
		file := filepath.Join(dir, "grayloft.toml")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		cancel() // a configuration that is accepted ends there
		var out bytes.Buffer
		daemon.Main(ctx, []string{"serve", "--config", file, "--data", filepath.Join(dir, "data"), "--listen", "127.0.0.1:0",
			"--database", trial.Database(t)}, &out, &out)
		return out.String()
	}
	if out := start(string(text)); strings.Contains(out, "grayloft.toml") {
		t.Errorf("the example: %s", out)
	}
	for change, want := range map[[2]string]string{
		{`cron = "30 1 * * *"`, `cron = "30 25 * * *"`}:                   "the schedule number 1: cron",
		{`branch = "main"`, `brunch = "main"`}:                            "brunch",
		{`secret_file = "push-secret"`, `secret_file = "nowhere"`}:        "nowhere",
		{`branches = ["main", "release/*"]`, `branches = []`}:             "the push number 1: a push needs branches",
		{`pool = "harbour"`, `pool = "The Harbour"`}:                      "is not the name of a pool",
		{"pick = \"all\"\n", ""}:                                          "needs tasks or a pick",
		{"[[push]]\nrepo = \"skerry\"", "[[push]]\ncron = \"0 0 * * *\""}: "a schedule has a cron",
	} {
		if out := start(strings.Replace(string(text), change[0], change[1], 1)); !strings.Contains(out, want) {
			t.Errorf("%s: %s", change[1], out)
		}
	}
}

// A schedule requests a run, once for each minute, however often it fires at however many
// replicas.
func TestAScheduleRequestsARunOnce(t *testing.T) {
	began := time.Now()
	trigger := fleet.Trigger{
		Repository: trial.Repository(t), Name: "nightly", Branch: "main", Cron: "@every 1s",
		Ask: protocol.Ask{Pool: "linux", Tasks: []string{"build"}},
	}
	y := newCrewWith(t, lib("true"), func(c *service.Config) { c.Schedules = []fleet.Trigger{trigger} })
	cfg := y.s.Config
	cfg.Listen = "127.0.0.1:0"
	other, err := service.Start(t.Context(), cfg) // another replica
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = other.Stop() }()
	y.await("it fired several times", func() bool {
		var n int
		err := y.s.DB.GetContext(t.Context(), &n, `SELECT count(*) FROM river_job WHERE kind = 'request-scheduled' AND state = 'completed'`)
		return err == nil && n >= 3
	})
	a := y.Grayloft("requests")
	minutes := int(time.Now().Truncate(time.Minute).Sub(began.Truncate(time.Minute))/time.Minute) + 1
	if n := strings.Count(a.Out, "nightly"); n < 1 || n > minutes || !strings.Contains(a.Out, "main") {
		t.Errorf("%d in %d minutes: %s%s", n, minutes, a.Out, a.Err)
	}
}
