//go:build unix

package cli_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/trial"
)

// charts has a task with two outputs, of which one depends on its input.
func charts(t *testing.T, isolation string) *trial.Repo {
	return trial.New(t, map[string]string{
		".gitignore": "out/\n", "in": "deep\n",
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\n[task.draw]\nisolation = \"" + isolation + "\"\nprobes = []\nreads = [\"in\"]\nwrites = [\"out/**\"]\n" +
			"run = \"mkdir -p out/fixed; echo legend > out/fixed/legend; cp in out/depths; if grep -q deep in; then echo x > out/reef; fi\"\n",
	})
}

// file returns the status of a file, which gets a time of long ago.
func file(t *testing.T, r *trial.Repo, name string) os.FileInfo {
	t.Helper()
	then := time.Now().Add(-48 * time.Hour)
	if err := os.Chtimes(r.Path(name), then, then); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(r.Path(name))
	if err != nil {
		t.Fatal(err)
	}
	return info
}

func TestSwitchingBetweenResultsKeepsTheFilesTheyShare(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	token := s.Token(t, "ci", "trusted", "trusted")
	for _, isolation := range []string{"open", "sealed"} {
		if isolation == "sealed" {
			needsSeal(t)
		}
		r := charts(t, isolation).Login(s.URL, token, "ci")
		r.Run("draw")
		r.Write("in", "shallow\n")
		r.Run("draw")
		home := r.Clone().Login(s.URL, token, "home")
		for _, c := range []struct {
			at      *trial.Repo
			outcome string
			args    []string
		}{{r, "restored", nil}, {home, "fetched", []string{"--fetch", "all"}}} {
			if c.at == home {
				home.Write("in", "shallow\n")
				home.Run("draw", "--fetch", "all")
			}
			before, began := file(t, c.at, "out/fixed/legend"), time.Now().Add(-time.Second)
			c.at.Write("out/stray", "somebody's\n")
			c.at.Write("in", "deep\n")
			rep := c.at.Run(append([]string{"draw"}, c.args...)...)
			want(t, isolation, rep.Outcomes(), map[string]string{"draw@test": c.outcome})
			after, err := os.Stat(c.at.Path("out/fixed/legend"))
			if err != nil || !os.SameFile(before, after) || after.ModTime().Before(began) {
				t.Errorf("%s, %s: the file that both results have was written again, or has an old time: %v", isolation, c.outcome, err)
			}
			if c.at.Read("out/depths") != "deep\n" || !c.at.Has("out/reef") || c.at.Has("out/stray") {
				t.Errorf("%s, %s: the outputs are not those of the other result", isolation, c.outcome)
			}
			if !strings.Contains(rep.Answer.Err, "out/stray") || strings.Contains(rep.Answer.Err, "legend") {
				t.Errorf("%s, %s: it said %q", isolation, c.outcome, rep.Answer.Err)
			}
			want(t, "again", c.at.Run("draw").Outcomes(), map[string]string{"draw@test": "current"})
			c.at.Write("in", "shallow\n")
			c.at.Run("draw", "--fetch", "all")
			if c.at.Has("out/reef") || c.at.Read("out/depths") != "shallow\n" {
				t.Errorf("%s, %s: files of the other result are left", isolation, c.outcome)
			}
		}
	}
}

func TestARunAgainClearsWhatTheTaskWroteBefore(t *testing.T) {
	t.Parallel()
	r := charts(t, "open")
	r.Run("draw")
	before := file(t, r, "out/fixed/legend")
	r.Write("in", "shallow\n")
	want(t, "a change", r.Run("draw").Outcomes(), map[string]string{"draw@test": "ran"})
	after, err := os.Stat(r.Path("out/fixed/legend"))
	if err != nil || after.ModTime().Equal(before.ModTime()) || r.Has("out/reef") {
		t.Errorf("a task that ran found outputs of its last run: %v", err)
	}
}
