//go:build trials

package trials

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/trial"
)

// Many clients start the same plan at once. Some are killed, and so is the service; the
// clocks of some are a minute off; and the task takes ten times as long as it did before.
func TestManyClientsOnOnePlanThatNobodyBuilt(t *testing.T) {
	runs := t.TempDir()
	task := func(name, seconds string) string {
		return "[task." + name + "]\nrun = '''echo x >> " + runs + "/" + name + "; sleep " + seconds + "; mkdir -p out; cat in > out/" + name +
			"'''\nreads = [\"in\"]\nwrites = [\"out/" + name + "\"]\nprobes = []\n"
	}
	r := trial.New(t, map[string]string{
		"grayloft.toml": strings.ReplaceAll(declared, `"lib", "app"`, `"lib"`), ".gitignore": "out/\n", "lib/in": "0.5\n",
		"lib/loft.toml": task("long", "$(cat in)") + task("three", "3") + task("four", "4"),
	})
	r.Bin = programs.client
	db := trial.Database(t)
	d := serve(t, db, t.TempDir())
	ci := token(t, db, "ci", "trusted", "trusted")
	repo := r.Login(d.url, ci, "ci")
	repo.Write("lib/in", "2.5\n")
	if a := repo.Grayloft("run", "long", "--quiet"); a.Code != 0 { // so long it is expected to take
		t.Fatal(a.Err)
	}
	count := func(name string) int {
		text, _ := os.ReadFile(filepath.Join(runs, name))
		return strings.Count(string(text), "x")
	}
	before := count("long")
	rnd := rand.New(rand.NewPCG(41, 42))
	n := times(200)
	var wg sync.WaitGroup
	var died, alone atomic.Int64
	began := time.Now()
	for i := range n {
		c := r.Clone().Login(d.url, ci, fmt.Sprint("ci-", i))
		c.Bin = programs.client
		c.Env = append(c.Env, "GRAYLOFT_CLOCK_OFFSET="+[]string{"0s", "1m", "-1m"}[i%3])
		c.Write("lib/in", "25\n")
		kill := time.Duration(0)
		if i%20 == 0 {
			kill = time.Duration(rnd.IntN(8000)) * time.Millisecond
		}
		wg.Go(func() {
			if kill > 0 {
				if interrupt(t, c, kill, "run", "long", "three", "four", "--quiet", "--jobs", "3") {
					died.Add(1)
				}
				return
			}
			a := c.Grayloft("run", "long", "three", "four", "--quiet", "--jobs", "3")
			if a.Code != 0 {
				t.Errorf("client %d: exit %d: %s%s", i, a.Code, a.Out, a.Err)
				return
			}
			if a.Err != "" { // it gave the service up, and chose to go on alone
				alone.Add(1)
			}
			for _, name := range []string{"long", "three", "four"} {
				if c.Read("lib/out/"+name) != "25\n" {
					t.Errorf("client %d has a wrong %s", i, name)
				}
			}
		})
	}
	<-time.After(12 * time.Second)
	d.kill()
	d.start()
	within(t, 6*time.Minute, "all clients", wg.Wait)
	t.Logf("%d clients on one plan, %d killed, the service killed once, clocks a minute off: all others have the right outputs after %s; "+
		"%d gave the service up; the tasks ran %d, %d and %d times; the first one was expected to take a tenth of what it took",
		n, died.Load(), time.Since(began).Round(time.Second), alone.Load(), count("long")-before, count("three"), count("four"))
	for _, name := range []string{"three", "four"} {
		if got := count(name); int64(got) > 1+died.Load()+alone.Load() {
			t.Errorf("%s ran %d times; %d clients died, and %d chose to go on alone", name, got, died.Load(), alone.Load())
		}
	}
}
