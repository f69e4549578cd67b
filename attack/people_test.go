package attack

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/trial"
)

// ordinary is the user as whom attacks run that must not depend on root.
const ordinary = 23456

// eachUser tries an attack as root and as an ordinary user.
func eachUser(t *testing.T, attack func(t *testing.T, uid int)) {
	t.Helper()
	for name, uid := range map[string]int{"as root": 0, "as an ordinary user": ordinary} {
		t.Run(name, func(t *testing.T) {
			if os.Getuid() != 0 && uid != os.Getuid() {
				if uid == 0 {
					skip(t, "user")
				}
				uid = os.Getuid()
			}
			attack(t, uid)
		})
	}
}

// desk is a person with a home, a checkout and a cache.
type desk struct {
	t    *testing.T
	uid  int
	home string
	dir  string
	env  []string
	repo string // its name at the service
}

const diary = "dear diary, nobody may read this\n"

// newDesk makes a person's home with private files, and a repository.
func newDesk(t *testing.T, uid int, files map[string]string) *desk {
	t.Helper()
	top := openDir(t)
	d := &desk{t: t, uid: uid, home: filepath.Join(top, "home"), dir: filepath.Join(top, "repo"), repo: trial.Repository(t)}
	d.write(filepath.Join(d.home, "private", "out", "diary.txt"), diary)
	d.write(filepath.Join(d.home, "private", "keep", "diary.txt"), diary)
	for name, text := range files {
		d.write(filepath.Join(d.dir, name), strings.ReplaceAll(text, "REPO", d.repo))
	}
	d.own(top)
	d.must("git", "init", "-q", "-b", "main")
	d.must("git", "add", "-A")
	d.must("git", "-c", "user.name=t", "-c", "user.email=t@t.example", "commit", "-q", "-m", "start")
	return d
}

// own gives everything in a directory to the person.
func (d *desk) own(dir string) {
	d.t.Helper()
	if os.Getuid() != 0 {
		return
	}
	if err := filepath.WalkDir(dir, func(p string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(p, d.uid, d.uid)
	}); err != nil {
		d.t.Fatal(err)
	}
}

func (d *desk) write(file, text string) {
	d.t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		d.t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		d.t.Fatal(err)
	}
}

// command returns a program as the person starts it.
func (d *desk) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = d.dir
	cmd.Env = append([]string{
		"PATH=" + os.Getenv("PATH"), "HOME=" + d.home, "GRAYLOFT_CACHE=" + filepath.Join(d.home, "cache"),
		"GRAYLOFT_CONFIG=" + filepath.Join(d.home, "config"), "GRAYLOFT_NAME=somebody", "TERM=xterm-256color",
	}, d.env...)
	cmd.WaitDelay = 5 * time.Second
	if os.Getuid() == 0 && d.uid != 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(d.uid), Gid: uint32(d.uid)}}
	}
	return cmd
}

func (d *desk) must(name string, args ...string) {
	d.t.Helper()
	if out, err := d.command(context.Background(), name, args...).CombinedOutput(); err != nil {
		d.t.Fatalf("%s %v: %v %s", name, args, err, out)
	}
}

// ran is how a call of the client went.
type ran struct {
	out  string // both streams
	code int
	took time.Duration
	most int64 // bytes of memory
}

// grayloft calls the client, for at most a minute.
func (d *desk) grayloft(args ...string) ran {
	d.t.Helper()
	client := program(d.t, "grayloft") // which may have to be built first
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := d.command(ctx, client, args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	began := time.Now()
	if err := cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	most := highWater(cmd.Process.Pid)
	err := cmd.Wait()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		d.t.Fatal(err)
	}
	r := ran{out: out.String(), code: cmd.ProcessState.ExitCode(), took: time.Since(began), most: <-most}
	if ctx.Err() != nil {
		d.t.Errorf("grayloft %v does not end:\n%s", args, r.out)
	}
	if strings.Contains(r.out, "panic:") || strings.Contains(r.out, "goroutine ") {
		d.t.Errorf("grayloft %v panics:\n%s", args, r.out)
	}
	return r
}

// highWater sends the most memory that a process took, in bytes, when it has
// ended. (The resource usage of a child counts what its parent took as well.)
func highWater(pid int) <-chan int64 {
	out := make(chan int64, 1)
	go func() {
		most := int64(0)
		for {
			text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
			_, after, ok := strings.Cut(string(text), "VmHWM:")
			var n int64
			if _, serr := fmt.Sscan(after, &n); err != nil || !ok || serr != nil {
				out <- most
				return
			}
			most = max(most, n<<10)
			time.Sleep(2 * time.Millisecond)
		}
	}()
	return out
}

// cached tells whether the person's cache contains a text.
func (d *desk) cached(text string) bool {
	d.t.Helper()
	found := false
	name := digest.Of([]byte(text)).String()
	_ = filepath.WalkDir(filepath.Join(d.home, "cache"), func(p string, e fs.DirEntry, err error) error {
		if err == nil && strings.Contains(strings.ReplaceAll(p, "/", ""), name) {
			found = true
		}
		return nil
	})
	return found
}

// intact checks that the private files are where they were, unread and
// unchanged.
func (d *desk) intact() {
	d.t.Helper()
	for _, name := range []string{"private/out/diary.txt", "private/keep/diary.txt"} {
		if text, err := os.ReadFile(filepath.Join(d.home, name)); err != nil || string(text) != diary {
			d.t.Errorf("%s: %q %v", name, text, err)
		}
	}
	if d.cached(diary) {
		d.t.Error("a private file is in the cache, and is shared")
	}
}

// read returns a file of the checkout; "" if there is none.
func (d *desk) read(name string) string {
	text, _ := os.ReadFile(filepath.Join(d.dir, name))
	return string(text)
}

func (d *desk) spooled(t *testing.T) int {
	t.Helper()
	list, _ := filepath.Glob(filepath.Join(d.home, "cache", "spool", "*"))
	return len(list)
}

// TestDeclarationsGetNoPrivateDirectories lets a pull request name what is private in a home.
func TestDeclarationsGetNoPrivateDirectories(t *testing.T) {
	eachUser(t, func(t *testing.T, uid int) {
		for what, lines := range map[string]string{
			"scratch": "scratch = [\"home:private\"]\n",
			"probe":   "probes = [\"tool\"]\n[probe.tool]\nrun = \"echo 1\"\ndirs = [\"home:private\"]\nreads = []\n",
		} {
			probe, task := "", lines
			if i := strings.Index(lines, "[probe"); i >= 0 {
				task, probe = lines[:i], lines[i:]
			}
			d := newDesk(t, uid, map[string]string{
				"grayloft.toml": "schema = 1\n[repo]\nname = \"REPO\"\nprojects = [\"a\"]\n[probe.fixed]\nrun = \"echo 1\"\nreads = []\n" + probe,
				"a/loft.toml":   "[project]\nname = \"a\"\n",
			})
			text := "[project]\nname = \"a\"\n[task.t]\nrun = \"cat ~/private/out/diary.txt " + d.home + "/private/out/diary.txt; echo x >> ~/private/out/diary.txt\"\n" +
				"reads = []\nwrites = []\nisolation = \"sealed\"\n" + task
			if what == "scratch" {
				text += "probes = [\"fixed\"]\n"
			}
			d.write(filepath.Join(d.dir, "a/loft.toml"), text)
			got := d.grayloft("run", "t")
			if strings.Contains(got.out, "nobody may read this") || got.code == 0 {
				t.Errorf("%s: exit %d\n%s", what, got.code, got.out)
			}
			if text, err := os.ReadFile(filepath.Join(d.home, "private/out/diary.txt")); err != nil || string(text) != diary {
				t.Errorf("%s: the diary is %q, %v", what, text, err)
			}
			if got := d.grayloft("check", "home-private"); got.code != 1 || !strings.Contains(got.out, "home:private") {
				t.Errorf("check says of %s, with exit %d:\n%s", what, got.code, got.out)
			}
		}
	})
}
