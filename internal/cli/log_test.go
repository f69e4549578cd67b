package cli_test

import (
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

func TestALogThatWasMadeElsewhereComesFromTheService(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	ci := trial.New(t, map[string]string{
		".gitignore": "out\n", "in": "1\n",
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\n[task.sound]\nrun = \"echo sounding $(cat in); cp in out\"\n" +
			"reads = [\"in\"]\nwrites = [\"out\"]\nprobes = []\n",
	}).Login(s.URL, s.Token(t, "ci", "trusted", "trusted"), "ci")
	first := ci.Run("sound")
	home := ci.Clone().Login(s.URL, s.Token(t, "isla", "person/isla", "person/isla", "trusted"), "home")
	want(t, "at home", home.Run("sound", "--fetch", "all").Outcomes(), map[string]string{"sound@test": "fetched"})
	ci.Write("in", "2\n")
	ci.Run("sound")

	says := func(r *trial.Repo, code int, text string, args ...string) {
		t.Helper()
		a := r.Grayloft(append([]string{"log", "sound"}, args...)...)
		if a.Code != code || !strings.Contains(a.Out+a.Err, text) {
			t.Errorf("log %v: exit %d, %s%s; want %d, %q", args, a.Code, a.Out, a.Err, code, text)
		}
	}
	says(home, 3, "is not on this machine, and no service was asked", "--offline")
	says(home, 0, "sounding 1\n")
	says(home, 0, "sounding 1\n", "--offline") // it is in the cache now
	says(ci, 0, "sounding 2\n")
	other := ci.Clone().Login(s.URL, s.Token(t, "isla", "person/isla", "person/isla", "trusted"), "home")
	says(other, 2, "has not run in this checkout")
	says(other, 0, "sounding 1\n", "--run", first.Run)
	says(other, 2, "no such record", "--run", "06h1nobody")
}

func TestAnEmptyLogIsNamed(t *testing.T) {
	t.Parallel()
	r := trial.New(t, sample)
	r.Run("generate@lib")
	if a := r.Grayloft("log", "generate@lib"); a.Code != 0 || a.Out != "" || a.Err != "generate@lib printed nothing.\n" {
		t.Errorf("exit %d, %q, %q", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("log", "generate@lib", "--quiet"); a.Code != 0 || a.Out+a.Err != "" {
		t.Errorf("exit %d, %q", a.Code, a.Out+a.Err)
	}
}
