//go:build trials

package trials

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/trial"
)

// The service goes away and comes back while tasks run: every run passes with the right
// outputs, and what was made in it is shared in the end, with another machine running nothing.
func TestOutagesDuringRunsLoseNothing(t *testing.T) {
	const tasks = 16
	files := map[string]string{"grayloft.toml": strings.ReplaceAll(declared, `"lib", "app"`, `"p*"`), ".gitignore": "out/\n"}
	for i := range tasks {
		dir := fmt.Sprintf("p%02d/", i)
		files[dir+"in"] = "x\n"
		files[dir+"loft.toml"] = "[task.build]\nrun = \"sleep 0.7; mkdir -p out; cat in > out/x\"\nreads = [\"in\"]\nwrites = [\"out/**\"]\nprobes = []\n"
	}
	r := trial.New(t, files)
	r.Bin = programs.client
	db := trial.Database(t)
	d := serve(t, db, t.TempDir())
	at, err := url.Parse(d.url)
	if err != nil {
		t.Fatal(err)
	}
	ci := token(t, db, "ci", "trusted", "trusted")
	ln := newLine(t, at.Host)
	repo := r.Login("http://"+ln.addr, ci, "ci")
	n, returned, given := times(40), 0, 0
	rnd := rand.New(rand.NewPCG(17, 17))
	for round := range n {
		for i := range tasks {
			repo.Write(fmt.Sprintf("p%02d/in", i), fmt.Sprintf("%d %d\n", round, i))
		}
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			for range 2 {
				<-time.After(time.Duration(rnd.IntN(1500)) * time.Millisecond)
				if rnd.IntN(2) == 0 {
					ln.mode.Store("dead")
				} else {
					ln.to.Store("127.0.0.1:1") // where nobody answers
					ln.cut()
				}
				<-time.After(time.Duration(rnd.IntN(2500)) * time.Millisecond)
				ln.mode.Store("")
				ln.to.Store(at.Host)
			}
		}()
		within(t, 2*time.Minute, "a run through outages", func() {
			rep := repo.Run("--pick", "all", "--jobs", "2")
			if !rep.OK {
				t.Errorf("round %d: %v\n%s", round, rep.Totals, rep.Answer.Err)
			}
			given += strings.Count(rep.Answer.Err, "only this machine's cache is used")
			returned += strings.Count(rep.Answer.Err, "answers again")
		})
		<-ended
		for i := range tasks {
			if got, want := repo.Read(fmt.Sprintf("p%02d/out/x", i)), fmt.Sprintf("%d %d\n", round, i); got != want {
				t.Errorf("round %d: %q, want %q", round, got, want)
			}
		}
		if rep := repo.Run("--pick", "all"); rep.Totals["current"] != tasks || rep.Answer.Err != "" { // it sends what is left
			t.Errorf("round %d, after it: %v\n%s", round, rep.Totals, rep.Answer.Err)
		}
		other := r.Clone().Login(d.url, ci, "office")
		other.Bin = programs.client
		for i := range tasks {
			other.Write(fmt.Sprintf("p%02d/in", i), fmt.Sprintf("%d %d\n", round, i))
		}
		if rep := other.Run("--pick", "all", "--fetch", "all"); rep.Totals["fetched"] != tasks {
			t.Errorf("round %d, elsewhere: %v\n%s", round, rep.Totals, rep.Answer.Err)
		}
		_ = os.RemoveAll(other.Dir)
	}
	t.Logf("%d runs of %d tasks through outages: given up %d times, used again %d times; every result was shared", n, tasks, given, returned)
	if given == 0 || returned == 0 {
		t.Error("no outage was noticed: the trial tries nothing")
	}
}
