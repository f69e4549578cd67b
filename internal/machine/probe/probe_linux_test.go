package probe

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/environment"
)

// desk is a machine with a tool, and a repository with one probe.
type desk struct {
	t    *testing.T
	dir  string
	g    *graph.Graph
	env  environment.Environment
	asks string // a file with a line for each time that the tool ran
}

func newDesk(t *testing.T, run string) *desk {
	t.Helper()
	d := &desk{t: t, dir: t.TempDir()}
	d.asks = filepath.Join(d.dir, "asks")
	d.file("tools/mill", "#!/bin/sh\necho x >> "+d.asks+"\necho mill 1\ncat $HOME/.millrc 2>/dev/null || true\n")
	d.file("tools/chooser", "#!/bin/sh\nexec mill \"$@\"\n")
	d.file("home/.keep", "")
	d.file("repo/.keep", "")
	var err error
	d.g, err = graph.Load(fstest.MapFS{"grayloft.toml": {Data: fmt.Appendf(nil, "schema = 1\n[repo]\nname = \"t\"\n[probe.p]\nrun = %s\nreads = []\n"+
		"[task.a]\nrun = \"true\"\nreads = []\nwrites = []\nprobes = [\"p\"]\n", run)}}, "t")
	if err != nil {
		t.Fatal(err)
	}
	d.env = environment.Environment{"PATH=" + d.at("tools") + ":" + os.Getenv("PATH"), "HOME=" + d.at("home")}
	return d
}

func (d *desk) at(name string) string { return filepath.Join(d.dir, name) }

func (d *desk) file(name, text string) {
	d.t.Helper()
	if err := os.MkdirAll(filepath.Dir(d.at(name)), 0o755); err != nil {
		d.t.Fatal(err)
	}
	if err := os.WriteFile(d.at(name), []byte(text), 0o755); err != nil {
		d.t.Fatal(err)
	}
}

type noFiles struct{}

func (noFiles) Paths() []string                 { return nil }
func (noFiles) Row(string) (listing.Row, error) { return listing.Row{}, os.ErrNotExist }

// run answers the probe as a run does, and returns how often the tool ran for that.
func (d *desk) run() (p *Prober, answer string, asked int) {
	d.t.Helper()
	_ = os.Remove(d.asks)
	p = &Prober{Graph: d.g, Env: d.env, Root: d.at("repo"), Memo: d.at("memo"), Run: "r"}
	q := Question{Probe: "p"}
	out, err := p.All(context.Background(), []Question{q}, noFiles{})
	if err != nil {
		d.t.Fatal(err)
	}
	text, _ := os.ReadFile(d.asks)
	return p, out[q], strings.Count(string(text), "x")
}

// settle waits until a change to what is there would show.
func (d *desk) settle() {
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(time.Millisecond) {
		d.file("tick", "")
		info, err := os.Stat(d.at("tools/mill"))
		tick, terr := os.Stat(d.at("tick"))
		if err == nil && terr == nil && tick.ModTime().Sub(info.ModTime()) > 50*time.Millisecond {
			return
		}
	}
}

// replace replaces the tool by another version of the same size and with the same time.
func (d *desk) replace() {
	info, err := os.Stat(d.at("tools/mill"))
	if err != nil {
		d.t.Fatal(err)
	}
	text, _ := os.ReadFile(d.at("tools/mill"))
	d.file("tools/mill", strings.Replace(string(text), "mill 1", "mill 2", 1))
	_ = os.Chtimes(d.at("tools/mill"), info.ModTime(), info.ModTime())
}

// However the tool is started, its answer is remembered, and no longer than it would be the same.
func TestAnswersAreRememberedAsLongAsTheyHold(t *testing.T) {
	for _, run := range []string{
		`"mill"`, `["mill"]`, `"sh -c mill"`, `"setsid -w mill"`, `"stdbuf -o0 mill"`, `"nice mill"`, `["perl", "-e", "exec 'mill'"]`, `"chooser"`, `"env X=1 mill"`,
	} {
		for name, change := range map[string]func(d *desk){
			"a program of the same size and time": (*desk).replace,
			"a configuration elsewhere":           func(d *desk) { d.file("home/.millrc", "mill 2\n") },
			"a program that is found earlier": func(d *desk) {
				d.file("earlier/mill", "#!/bin/sh\necho mill 2\n")
				d.env[0] = "PATH=" + d.at("earlier") + ":" + strings.TrimPrefix(d.env[0], "PATH=")
			},
			"a program in a directory of PATH that had none": func(d *desk) { d.file("first/mill", "#!/bin/sh\necho mill 2\n") },
		} {
			t.Run(run+"/"+name, func(t *testing.T) {
				t.Parallel()
				d := newDesk(t, run)
				d.env[0] = "PATH=" + d.at("first") + ":" + strings.TrimPrefix(d.env[0], "PATH=")
				d.settle()
				if _, answer, asked := d.run(); asked != 1 || answer != "mill 1" {
					t.Fatalf("first: %q, asked %d times", answer, asked)
				}
				if _, answer, asked := d.run(); asked != 0 || answer != "mill 1" {
					t.Errorf("nothing changed: %q, asked %d times", answer, asked)
				}
				change(d)
				if _, answer, _ := d.run(); !strings.HasSuffix(answer, "mill 2") {
					t.Errorf("afterwards: %q", answer)
				}
			})
		}
	}
}

// What answers by itself is asked in every run.
func TestAnswersOfOthersAreNotRemembered(t *testing.T) {
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprintln(c, "mill 1")
			c.Close()
		}
	}()
	d := newDesk(t, fmt.Sprintf(`["perl", "-MIO::Socket::UNIX", "-e", "my $s = IO::Socket::UNIX->new(Peer => '%s') or die; print <$s>; open(A, '>>', '%s'); print A 'x'"]`,
		l.Addr(), filepath.Join(t.TempDir(), "unused")))
	for range 3 {
		p, answer, _ := d.run()
		if answer != "mill 1" || p.known(Question{Probe: "p"}).depends != nil {
			t.Errorf("%q depends on files alone", answer)
		}
	}
}

// A tool that was switched while a task ran is noticed, also if it was switched back.
func TestASwitchedToolIsNoticed(t *testing.T) {
	for _, remembered := range []bool{false, true} {
		for name, c := range map[string]struct {
			does func(d *desk)
			says string
		}{
			"nothing":  {func(*desk) {}, ""},
			"switched": {(*desk).replace, "changed while it ran"},
			"and back": {func(d *desk) {
				text, _ := os.ReadFile(d.at("tools/mill"))
				d.replace()
				d.file("tools/mill", string(text))
			}, "may have changed while it ran"},
		} {
			t.Run(fmt.Sprintf("%s, remembered: %v", name, remembered), func(t *testing.T) {
				t.Parallel()
				d := newDesk(t, `"mill"`)
				d.settle()
				if remembered {
					d.run()
				}
				p, _, _ := d.run()
				c.does(d)
				task := d.g.Task("a@t")
				got := p.Changed(context.Background(), task)
				if c.says == "" && got != "" || !strings.Contains(got, c.says) {
					t.Errorf("%q, want %q", got, c.says)
				}
			})
		}
	}
}

// Answers have a bound, and a damaged file is as none.
func TestWhatIsRememberedHasABound(t *testing.T) {
	d := newDesk(t, `"mill"`)
	d.settle()
	p, _, _ := d.run()
	q := Question{Probe: "p"}
	for i := range 20 {
		p.remember(q, recall{Asked: [32]byte{byte(i + 1)}, Text: fmt.Sprint(i)})
	}
	if n := len(p.load(q).Answers); n > answersKept {
		t.Errorf("%d answers are remembered", n)
	}
	whole, err := os.ReadFile(p.memoFile(q))
	if err != nil {
		t.Fatal(err)
	}
	for i := range whole {
		spoiled := slices.Clone(whole)
		spoiled[i] ^= 1
		if err := os.WriteFile(p.memoFile(q), spoiled, 0o644); err != nil {
			t.Fatal(err)
		}
		if n := len(p.load(q).Answers); n != 0 {
			t.Fatalf("with byte %d damaged, %d answers are left", i, n)
		}
	}
}
