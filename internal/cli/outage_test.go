package cli_test

import (
	"os"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// What this machine has is used although the service does not answer, by the rights that the
// token had when it last did.
func TestThisMachinesResultsAreUsedWithoutTheService(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	g := newGate(t, s.URL)
	r := trial.New(t, sample).Login(s.URL, ci, "harbour-ci")
	allAre(t, "CI", r.Run("--pick", "all"), "ran")
	home := r.Clone().Login(g.URL, brenna, "home")
	home.Append("lib/test/t", "hers\n")
	want(t, "with the service", home.Run("--pick", "all", "--fetch", "all").Outcomes(), map[string]string{
		"generate@lib": "fetched", "build@app": "fetched", "test@lib": "ran", "test@app": "cached"})

	inNewCheckout := func(why string, r *trial.Repo, outcomes map[string]string, args ...string) {
		t.Helper()
		for _, dir := range []string{"lib/gen", "app/out", ".grayloft"} {
			r.Remove(dir)
		}
		want(t, why, r.Run(append([]string{"--pick", "all"}, args...)...).Outcomes(), outcomes)
	}
	here := map[string]string{"generate@lib": "restored", "build@app": "restored", "test@lib": "cached", "test@app": "cached"}
	nothing := map[string]string{"generate@lib": "ran", "build@app": "ran", "test@lib": "ran", "test@app": "ran"}
	inNewCheckout("offline", home, here, "--offline")
	g.mode.Store("drop")
	inNewCheckout("while it does not answer", home, here)
	// Another token may not read what this one read, as far as anybody knows here.
	stranger := r.Clone().Login(g.URL, s.Token(t, "olve", "person/olve", "person/olve"), "home")
	stranger.Env = append(stranger.Env, "GRAYLOFT_CACHE="+cacheOf(home))
	inNewCheckout("with another token", stranger, nothing)
}

// cacheOf returns the directory of a clone's cache.
func cacheOf(r *trial.Repo) string {
	dir := ""
	for _, e := range r.Env {
		if d, ok := strings.CutPrefix(e, "GRAYLOFT_CACHE="); ok {
			dir = d
		}
	}
	return dir
}

// A run that begins while the service does not answer uses it as soon as it does.
func TestARunThatBeganWithoutTheServiceUsesItLater(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci, brenna := everyone(t, s)
	g := newGate(t, s.URL)
	files, begun, goOn, runs := slow(t)
	files["lib/loft.toml"] = strings.Replace(files["lib/loft.toml"], `reads = ["in"]`, `reads = ["in", "note"]`, 1)
	files["lib/note"] = "x\n" // which the outputs do not depend on
	r := trial.New(t, files).Login(s.URL, ci, "ci-4")
	touch(t, goOn)
	allAre(t, "CI", r.Run("after"), "ran")

	home := r.Clone().Login(g.URL, brenna, "home")
	home.Plan("after") // the rights become known
	home.Append("lib/note", "y\n")
	for _, file := range []string{begun, goOn} {
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
	}
	g.CloseClientConnections()
	g.mode.Store("drop")
	out, wait, _ := background(t, home, "run", "after")
	trial.Wait(t, "it runs here", exists(begun))
	g.mode.Store("")
	trial.Wait(t, "the service is used again", func() bool { return strings.Contains(out.String(), "answers again") })
	touch(t, goOn)
	if err := wait(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if n := count(t, runs); n != 2 {
		t.Errorf("the slow task ran %d times", n)
	}
	if !strings.Contains(out.String(), "Ran 1 of 2 tasks; 1 cached") {
		t.Errorf("what CI had made was not used:\n%s", out)
	}
	// What was made meanwhile was shared.
	other := r.Clone().Login(s.URL, brenna, "office")
	other.Append("lib/note", "y\n")
	allAre(t, "elsewhere", other.Run("after"), "cached")
}
