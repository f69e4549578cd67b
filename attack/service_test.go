package attack

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

// harbour declares tasks with small and large outputs that depend on each other.
func harbour() map[string]string {
	return map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"REPO\"\nprojects = [\"a\"]\n[probe.fixed]\nrun = \"echo 1\"\nreads = []\n",
		"a/loft.toml": `[project]
name = "a"
[task.chart]
run = "echo chart > chart.txt"
reads = ["in.txt"]
writes = ["chart.txt"]
probes = ["fixed"]
reuse = "always"
[task.atlas]
run = "head -c 3000000 /dev/zero | tr '\\0' 'a' > atlas.bin; cat chart.txt >> atlas.bin"
reads = ["in.txt"]
writes = ["atlas.bin"]
after = ["chart"]
probes = ["fixed"]
reuse = "always"
[task.book]
run = "wc -c < atlas.bin > book.txt"
reads = ["in.txt"]
writes = ["book.txt"]
after = ["atlas"]
probes = ["fixed"]
reuse = "always"
`,
		"a/in.txt": "tide\n",
	}
}

func (d *desk) rightOutputs(what string, r ran) {
	d.t.Helper()
	if r.code != 0 || d.read("a/chart.txt") != "chart\n" || strings.TrimSpace(d.read("a/book.txt")) != "3000006" {
		d.t.Errorf("%s: exit %d, chart %q, book %q\n%s", what, r.code, d.read("a/chart.txt"), d.read("a/book.txt"), r.out)
	}
}

// login makes a person use a service with a token.
func (d *desk) login(url, token string) *desk {
	d.env = append(d.env, "GRAYLOFT_SERVICE="+url, "GRAYLOFT_TOKEN="+token)
	return d
}

const mostLost = 10 * time.Second // by one run, whatever a service does

// TestAMisbehavingServiceCostsSecondsAtMost plays every trick on every call that
// it fits.
func TestAMisbehavingServiceCostsSecondsAtMost(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	uid := os.Getuid()
	if uid == 0 {
		uid = ordinary
	}
	filled := newDesk(t, uid, harbour()).login(s.URL, s.Token(t, "ci", "trusted", "trusted"))
	plain := filled.grayloft("run", "book@a")
	filled.rightOutputs("an honest service", plain)
	for _, trick := range trial.Tricks {
		t.Run(trick, func(t *testing.T) {
			t.Parallel()
			m := trial.Misbehave(t, s.URL, func(string) string { return trick })
			for i, calls := range [][]string{{"lookup"}, {"fetch", "blob"}, {"put", "packs", "missing"}, {"entry", "events", "runs"}, {"self"}} {
				m.Trick = func(call string) string {
					for _, c := range calls {
						if c == call {
							return trick
						}
					}
					return ""
				}
				d := newDesk(t, uid, harbour())
				d.repo = filled.repo
				d.write(filepath.Join(d.dir, "grayloft.toml"), strings.ReplaceAll(harbour()["grayloft.toml"], "REPO", filled.repo))
				if calls[0] == "put" || calls[0] == "entry" { // something to upload
					d.write(filepath.Join(d.dir, "a/in.txt"), "tide "+trick+calls[0]+"\n")
				}
				d.own(d.dir)
				d.login(m.URL, s.TokenFor(t, filled.repo, "kari", fmt.Sprint("person/kari", i), "trusted"))
				r := d.grayloft("run", "chart@a", "atlas@a", "book@a")
				what := fmt.Sprint(trick, " at ", calls)
				d.rightOutputs(what, r)
				if r.took > plain.took+mostLost {
					t.Errorf("%s: the run took %s, and %s without tricks", what, r.took, plain.took)
				}
				if r.most > 300<<20 {
					t.Errorf("%s: the client took %d MB", what, r.most>>20)
				}
				if strings.ContainsAny(r.out, "\x1b\x07\u009b") {
					t.Errorf("%s: control characters reach the terminal: %q", what, r.out)
				}
			}
		})
	}
}

func TestTheTokenGoesOnlyWhereAPersonSentIt(t *testing.T) {
	t.Parallel()
	var heard []string
	thief := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		heard = append(heard, r.Header.Get("Authorization"))
		_ = json.NewEncoder(w).Encode(protocol.Self{Name: "x", Repo: "x"})
	}))
	defer thief.Close()
	s := trial.Serve(t)
	token := s.Token(t, "kari", "person/kari", "trusted")
	declared := func() map[string]string {
		files := harbour()
		files["grayloft.toml"] += "[service]\nurl = \"" + thief.URL + "\"\n"
		return files
	}
	for name, prepare := range map[string]func(d *desk){
		"with the token in the environment": func(d *desk) { d.env = append(d.env, "GRAYLOFT_TOKEN="+token) },
		"with both in the environment":      func(d *desk) { d.login(s.URL, token) },
		"after a login to another": func(d *desk) {
			d.write(filepath.Join(d.home, "config", "services.json"), fmt.Sprintf(`{"v":1,"repos":{%q:{"url":%q,"token":%q}}}`, d.repo, s.URL, token))
			d.own(d.home)
		},
	} {
		d := newDesk(t, os.Getuid(), declared())
		prepare(d)
		for _, args := range [][]string{{"plan", "book@a"}, {"run", "book@a"}, {"doctor"}, {"show", "book@a"}, {"why", "book@a"}, {"reach", "--since", "last-good"}} {
			r := d.grayloft(args...)
			if args[0] == "plan" && name != "with both in the environment" && !strings.Contains(r.out, thief.URL) {
				t.Errorf("%s: nothing explains that the declared address is not used: %s", name, r.out)
			}
		}
	}
	for _, h := range heard {
		if strings.Contains(h, token) {
			t.Fatal("a declared service received the token")
		}
	}
	// Nor where the right service sends a client.
	elsewhere := trial.Misbehave(t, s.URL, func(string) string { return "redirect" })
	d := newDesk(t, os.Getuid(), harbour()).login(elsewhere.URL, token)
	d.rightOutputs("redirects", d.grayloft("run", "book@a"))
	for _, r := range elsewhere.Heard() {
		if strings.Contains(r.URL.Path, "elsewhere") {
			t.Error("a redirect was followed")
		}
	}
}

func TestWhatWaitsIsSentOnlyUnderItsOwnToken(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	down := true
	m := trial.Misbehave(t, s.URL, func(string) string {
		if down {
			return "fail"
		}
		return ""
	})
	kari, ciToken := s.Token(t, "kari", "person/kari", "person/kari", "trusted"), s.Token(t, "ci", "trusted", "trusted")
	d := newDesk(t, os.Getuid(), harbour())
	as := func(token string) ran {
		d.env = nil
		return d.login(m.URL, token).grayloft("run", "book@a")
	}
	d.rightOutputs("while it is down", as(kari))
	waiting := d.spooled(t)
	if waiting < 3 {
		t.Fatalf("only %d items wait", waiting)
	}
	down = false
	as(ciToken)
	repo := repository(t, s)
	if n := count(t, s, "SELECT count(*) FROM entries WHERE repository_id = $1 AND shelf = 'trusted'", repo); n != 0 {
		t.Errorf("%d entries of a personal run are on the trusted shelf", n)
	}
	if n := count(t, s, "SELECT count(*) FROM runs WHERE repository_id = $1 AND n_ran > 0", repo); n != 0 {
		t.Errorf("%d personal runs are recorded as CI's", n)
	}
	if d.spooled(t) < waiting {
		t.Errorf("of %d items of another token %d are left", waiting, d.spooled(t))
	}
	as(kari)
	if n := count(t, s, "SELECT count(*) FROM entries WHERE repository_id = $1 AND shelf = 'person/kari'", repo); n != 3 {
		t.Errorf("%d of 3 entries arrived on the person's shelf", n)
	}
	if n := d.spooled(t); n != 0 {
		t.Errorf("%d items are left", n)
	}
}

func TestABadRecordInTheSpoolIsSetAsideAndNamed(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	down := true
	m := trial.Misbehave(t, s.URL, func(string) string {
		if down {
			return "fail"
		}
		return ""
	})
	d := newDesk(t, os.Getuid(), harbour()).login(m.URL, s.Token(t, "kari", "person/kari", "person/kari", "trusted"))
	d.grayloft("run", "book@a")
	down = false
	runs, _ := filepath.Glob(filepath.Join(d.home, "cache", "spool", "run-*"))
	if len(runs) != 1 {
		t.Fatal(runs)
	}
	text, err := os.ReadFile(runs[0])
	if err != nil {
		t.Fatal(err)
	}
	var item map[string]any
	if err := json.Unmarshal(text, &item); err != nil {
		t.Fatal(err)
	}
	item["run"].(map[string]any)["jobs"] = 3_000_000_000
	text, _ = json.Marshal(item)
	d.write(runs[0], string(text))
	d.write(runs[0]+"-damaged", "{")
	r := d.grayloft("run", "book@a")
	if !strings.Contains(r.out, "set aside") || !strings.Contains(r.out, filepath.Base(runs[0])) || strings.Contains(r.out, "alone") {
		t.Errorf("%s", r.out)
	}
	d.write(filepath.Join(d.dir, "a/in.txt"), "another tide\n")
	if r = d.grayloft("run", "book@a"); strings.Contains(r.out, "set aside") {
		t.Errorf("it is tried again: %s", r.out)
	}
	if n := count(t, s, "SELECT count(*) FROM entries WHERE repository_id = $1", repository(t, s)); n != 6 {
		t.Errorf("%d of 6 entries are shared", n)
	}
}

// ten declares ten tasks that can run at the same time.
func ten() map[string]string {
	files := harbour()
	var b strings.Builder
	b.WriteString("[project]\nname = \"a\"\n")
	for i := range 10 {
		fmt.Fprintf(&b, "[task.t%d]\nrun = \"echo %d > t%d.txt\"\nreads = [\"in.txt\"]\nwrites = [\"t%d.txt\"]\nprobes = [\"fixed\"]\n", i, i, i, i)
	}
	files["a/loft.toml"] = b.String()
	return files
}

func TestAnInterruptedRunLosesNoResult(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	for _, trick := range []string{"stall", "slow upload"} {
		tricky := true
		m := trial.Misbehave(t, s.URL, func(call string) string {
			if tricky && (call == "missing" || call == "packs") {
				return trick
			}
			return ""
		})
		d := newDesk(t, os.Getuid(), ten()).login(m.URL, s.Token(t, "kari "+trick, "person/kari-"+trick[:2], "trusted"))
		d.write(filepath.Join(d.dir, "a/in.txt"), trick)
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		cmd := d.command(ctx, program(t, "grayloft"), "run", "--pick", "all", "--jobs", "10")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		waitLong(t, "all tasks to have run", func() bool { return d.read("a/t9.txt") != "" && d.spooled(t) >= 4 })
		began := time.Now()
		_ = cmd.Process.Signal(syscall.SIGINT)
		_ = cmd.Wait()
		if took := time.Since(began); took > mostLost {
			t.Errorf("%s: the run ended %s after the interrupt", trick, took)
		}
		tricky = false
		d.grayloft("run", "--pick", "all")
		d.grayloft("run", "--pick", "all")
		if n := count(t, s, "SELECT count(*) FROM entries WHERE repository_id = $1 AND shelf = $2", repository(t, s), "person/kari-"+trick[:2]); n != 10 {
			t.Errorf("%s: %d of 10 results are shared in the end", trick, n)
		}
	}
}

func TestReproduceIsInterruptedWithoutAPanic(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	var stalls bool
	m := trial.Misbehave(t, s.URL, func(call string) string {
		if stalls && (call == "fetch" || call == "blob") {
			return "stall"
		}
		return ""
	})
	token := s.Token(t, "ci", "trusted", "trusted")
	first := newDesk(t, os.Getuid(), harbour()).login(m.URL, token)
	first.grayloft("run", "book@a")
	stalls = true
	for _, command := range []string{"reproduce", "drift", "plan"} {
		d := newDesk(t, os.Getuid(), harbour()).login(m.URL, token)
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		cmd := d.command(ctx, program(t, "grayloft"), command, "book@a")
		var out strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &out
		before := len(m.Heard())
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		waitLong(t, "it to fetch", func() bool {
			for _, r := range m.Heard()[before:] {
				if strings.Contains(r.URL.Path, "packs/fetch") {
					return true
				}
			}
			return false
		})
		_ = cmd.Process.Signal(syscall.SIGINT)
		_ = cmd.Wait()
		if strings.Contains(out.String(), "panic") || ctx.Err() != nil {
			t.Errorf("%s: %s", command, out.String())
		}
	}
}

func TestTextFromOthersDoesNotControlTheTerminal(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	evil := "\x1b]0;pwned\x07\x1b[2J\u009b5n\u202e"
	secret, err := s.DB.NewToken(context.Background(), records.Token{
		Repository: s.Repo, Name: "mallory" + evil, WritesTo: "trusted", ReadsFrom: []string{"trusted"}, MayView: true})
	if err != nil {
		t.Fatal(err)
	}
	files := harbour()
	files["a/loft.toml"] = strings.Replace(files["a/loft.toml"], `run = "echo chart > chart.txt"`,
		`run = "printf '\\033]0;pwned\\007\\033[31mred\\033[0m\\033[2J\\n'; echo chart > chart.txt"`, 1)
	mallory := newDesk(t, os.Getuid(), files).login(s.URL, secret)
	mallory.env = append(mallory.env, "GRAYLOFT_PLACE=harbour"+evil, "CI=yes")
	check := func(what, text string) {
		t.Helper()
		if strings.ContainsAny(text, "\x07\u009b\u202e") || strings.Contains(text, "\x1b]") || strings.Contains(text, "\x1b[2") {
			t.Errorf("%s: %q", what, text)
		}
	}
	check("the run itself, in CI", mallory.grayloft("run", "book@a").out)
	check("its log", mallory.grayloft("log", "chart@a", "--color", "always").out)
	check("its log as it comes", mallory.grayloft("run", "--no-reuse", "--logs", "live", "book@a").out)
	d := newDesk(t, os.Getuid(), files).login(s.URL, s.Token(t, "kari", "person/kari", "trusted"))
	for _, args := range [][]string{
		{"plan", "book@a"}, {"run", "-v", "book@a"}, {"history"}, {"history", "book@a"}, {"why", "chart@a"}, {"show", "chart@a"}, {"doctor"}, {"cache", "stats"},
	} {
		check(strings.Join(args, " "), d.grayloft(args...).out)
	}
}

// onTerminal runs the client on a pseudo terminal that answers no queries, and
// returns how long it took and what it showed; ok tells that it ended by itself.
func (d *desk) onTerminal(limit time.Duration, args ...string) (took time.Duration, shown string, ok bool) {
	d.t.Helper()
	master, slave := pseudoTerminal(d.t)
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	cmd := d.command(ctx, program(d.t, "grayloft"), args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true} // in the foreground, as a person starts it
	texts := make(chan string, 1)
	go func() {
		var b strings.Builder
		buf := make([]byte, 4096)
		for {
			n, err := master.Read(buf)
			b.Write(buf[:n])
			if err != nil {
				texts <- b.String()
				return
			}
		}
	}()
	began := time.Now()
	_ = cmd.Run()
	took = time.Since(began)
	slave.Close()
	return took, <-texts, ctx.Err() == nil
}

func TestATerminalThatDoesNotAnswerCostsNothing(t *testing.T) {
	d := newDesk(t, os.Getuid(), harbour())
	d.grayloft("run", "book@a")
	for _, args := range [][]string{{"version"}, {"history"}, {"plan", "book@a"}, {"run", "--no-reuse", "book@a"}} {
		took, shown, ok := d.onTerminal(time.Minute, args...)
		if took > 2*time.Second || !ok {
			t.Errorf("%v took %s: %q", args, took, shown)
		}
		if strings.Contains(shown, "\x1b]11;?") || strings.Contains(shown, "\x1b[6n") {
			t.Errorf("%v asks the terminal: %q", args, shown)
		}
	}
}

func TestALiveViewEndsThoughUploadsStall(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	for _, trick := range []string{"stall", "control characters", "fail"} {
		m := trial.Misbehave(t, s.URL, func(call string) string {
			if call == "missing" || call == "packs" || call == "entry" || call == "events" {
				return trick
			}
			return ""
		})
		d := newDesk(t, os.Getuid(), ten()).login(m.URL, s.Token(t, "kari "+trick, "person/kari", "trusted"))
		took, shown, ok := d.onTerminal(40*time.Second, "run", "--pick", "all")
		if !ok || took > mostLost+5*time.Second {
			t.Errorf("%s: after %s: %q", trick, took, shown)
		}
	}
}

func TestATemplateStaysInTheRepository(t *testing.T) {
	t.Parallel()
	eachUser(t, func(t *testing.T, uid int) {
		for name, link := range map[string]string{"the template itself": "build/template", "a directory on the way": "build"} {
			files := empty()
			files["grayloft.toml"] += "[kind.lib]\ntemplate = \"build/template\"\n[kind.lib.task.t]\nrun = \"true\"\n"
			files["grayloft.toml"] = strings.Replace(files["grayloft.toml"], `projects = ["a"]`, `projects = ["libs/*"]`, 1)
			d := newDesk(t, uid, files)
			target := filepath.Join(d.home, "private")
			if link == "build/template" {
				if err := os.MkdirAll(filepath.Join(d.dir, "build"), 0o755); err != nil {
					t.Fatal(err)
				}
				target = filepath.Join(d.home, "private", "out")
			} else if err := os.Rename(filepath.Join(d.home, "private", "out"), filepath.Join(d.home, "private", "template")); err != nil {
				t.Fatal(err)
			}
			if err := os.Symlink(target, filepath.Join(d.dir, link)); err != nil {
				t.Fatal(err)
			}
			got := d.grayloft("new", "lib", "libs/new")
			if d.read("libs/new/diary.txt") != "" {
				t.Errorf("%s: a private file was copied: %s", name, got.out)
			}
		}
		// Nor is anything written through a link.
		files := empty()
		files["grayloft.toml"] = strings.Replace(files["grayloft.toml"], `projects = ["a"]`, `projects = ["libs/*"]`, 1) +
			"[kind.lib]\ntemplate = \"build/template\"\n[kind.lib.task.t]\nrun = \"true\"\n"
		files["build/template/x.txt"] = "x"
		d := newDesk(t, uid, files)
		if err := os.Symlink(filepath.Join(d.home, "private"), filepath.Join(d.dir, "libs")); err != nil {
			t.Fatal(err)
		}
		d.grayloft("new", "lib", "libs/new")
		if _, err := os.Stat(filepath.Join(d.home, "private", "new")); err == nil {
			t.Error("a project was made outside the repository")
		}
	})
}

func TestAShortSecretIsNamed(t *testing.T) {
	t.Parallel()
	for value, named := range map[string]bool{"abc": true, "": false, "long enough": false} {
		d := newDesk(t, os.Getuid(), one("open", "echo x > out.txt", `writes = ["out.txt"]`, `secrets = ["PIN"]`))
		d.env = append(d.env, "PIN="+value)
		if got := d.grayloft("run", "build@a"); strings.Contains(got.out, "PIN has fewer than 4 characters") != named {
			t.Errorf("a secret %q: %s", value, got.out)
		}
	}
}
