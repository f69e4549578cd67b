package attack

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// one declares a repository with one task.
func one(isolation, run string, more ...string) map[string]string {
	return map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"REPO\"\nprojects = [\"a\"]\n[probe.fixed]\nrun = \"echo 1\"\nreads = []\n",
		"a/loft.toml": "[project]\nname = \"a\"\n[task.build]\nrun = '''\n" + run + "\n'''\nreads = [\"in.txt\"]\nprobes = [\"fixed\"]\nisolation = \"" +
			isolation + "\"\n" + strings.Join(more, "\n") + "\n",
		"a/in.txt": "tide\n",
	}
}

func TestATaskThatReplacesItsDirectoryReachesNothing(t *testing.T) {
	t.Parallel()
	eachUser(t, func(t *testing.T, uid int) {
		for name, c := range map[string]struct{ run, more string }{
			"its project":                 {`cd ..; mv a a.real; ln -s "$PRIVATE" a`, `writes = ["out/**"]`},
			"the directory of outputs":    {`ln -s "$PRIVATE/out" out`, `writes = ["out/**"]`},
			"a directory below":           {`mkdir -p gen; ln -s "$PRIVATE/out" gen/out`, `writes = ["gen/**"]`},
			"its project, for scratch":    {`cd ..; mv a a.real; ln -s "$PRIVATE" a`, "writes = [\"out/**\"]\nscratch = [\"keep/**\"]"},
			"its scratch":                 {`rm -rf keep; ln -s "$PRIVATE/keep" keep; echo x > out.txt`, "writes = [\"out.txt\"]\nscratch = [\"keep/**\"]"},
			"its project, after writing":  {`mkdir out; echo x > out/diary.txt; cd ..; mv a a.real; ln -s "$PRIVATE" a`, `writes = ["out/**"]`},
			"a file by a link to another": {`ln -s "$PRIVATE/out/diary.txt" out.txt`, `writes = ["out.txt"]`},
		} {
			for _, isolation := range []string{"sealed", "traced", "open"} {
				t.Run(name+", "+isolation, func(t *testing.T) {
					d := newDesk(t, uid, one(isolation, c.run, c.more, `env = ["PRIVATE"]`))
					d.env = append(d.env, "PRIVATE="+filepath.Join(d.home, "private"))
					for range 3 { // clearing before the next run is an attack as well
						d.grayloft("run", "build@a")
					}
					d.intact()
				})
			}
		}
	})
}

func TestALinkInPlaceOfTheStateDirectoryIsNotFollowed(t *testing.T) {
	t.Parallel()
	eachUser(t, func(t *testing.T, uid int) {
		d := newDesk(t, uid, one("open", "echo x > out.txt", `writes = ["out.txt"]`))
		if err := os.Symlink(filepath.Join(d.home, "private"), filepath.Join(d.dir, ".grayloft")); err != nil {
			t.Fatal(err)
		}
		got := d.grayloft("run", "build@a")
		list, _ := os.ReadDir(filepath.Join(d.home, "private"))
		if len(list) != 2 || got.code == 0 {
			t.Errorf("%d names in the private directory, exit %d: %s", len(list), got.code, got.out)
		}
	})
}

const tokenText = "loft-secret-token-of-somebody"

// TestNoTaskReadsTheToken also shows that the secrets of the system stay closed
// to a task of root.
func TestNoTaskReadsTheToken(t *testing.T) {
	t.Parallel()
	const look = `
set +e
( for p in /proc/[0-9]*; do tr '\0' '\n' < $p/environ; tr '\0' '\n' < $p/cmdline; done
  env; cat /proc/self/task/*/environ ) > all.txt 2>/dev/null
if grep -q "$(printf 'loft-secret-%s' token-of-somebody)" all.txt; then echo found > out.txt; else echo nothing > out.txt; fi`
	eachUser(t, func(t *testing.T, uid int) {
		for _, isolation := range []string{"sealed", "traced", "open"} {
			d := newDesk(t, uid, one(isolation, look, `writes = ["out.txt"]`, `scratch = ["all.txt"]`))
			d.env = append(d.env, "GRAYLOFT_SERVICE=http://127.0.0.1:1", "GRAYLOFT_TOKEN="+tokenText)
			ran := d.grayloft("run", "build@a")
			if got := d.read("a/out.txt"); got != "nothing\n" {
				t.Errorf("a task, %s: %q %s", isolation, got, ran.out)
			}
			d = newDesk(t, uid, one(isolation, `echo "$GRAYLOFT_TOKEN" > out.txt`, `writes = ["out.txt"]`, `env = ["GRAYLOFT_TOKEN"]`))
			d.env = append(d.env, "GRAYLOFT_SERVICE=http://127.0.0.1:1", "GRAYLOFT_TOKEN="+tokenText)
			if d.grayloft("run", "build@a"); strings.Contains(d.read("a/out.txt"), tokenText) {
				t.Errorf("a task, %s, that declares it, gets it", isolation)
			}
		}
	})
}

func TestASealedTaskOfRootHasNoRightsOfRoot(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		skip(t, "user")
	}
	for name, attempt := range map[string]string{
		"the passwords of the system": `[ -n "$(cat /etc/shadow)" ]`,
		"the kernel's log":            `timeout 1 head -c1 /proc/kmsg | grep -q .`,
		"making a device":             `mknod disk b 8 0`,
		"mounting":                    `mount -t tmpfs none /tmp`,
		"another namespace's files":   `ls /proc/1/root/boot`,
		"a new user namespace":        `unshare -Ur true`,
		"tracing the first process":   `cat /proc/1/mem /proc/1/environ | grep -q GRAYLOFT_SEAL`,
		"changing an owner":           `touch f; chown 1 f`,
		"the time":                    `date -s "@$(date +%s)"`, // to what it is
		"system files":                `( : >> /etc/passwd )`,
		"the host's name":             `hostname "$(hostname)"`,                                                           // to what it is
		"the person's keys":           fmt.Sprintf(`perl -e 'exit(syscall(%d, 0, -4, 1) >= 0 ? 0 : 1)'`, unix.SYS_KEYCTL), // the user keyring
		"a raw socket":                `perl -MSocket -e 'socket(S, AF_INET, SOCK_RAW, 1) or exit 1'`,
	} {
		d := newDesk(t, 0, one("sealed", "if "+attempt+"; then echo yes > out.txt; else echo no > out.txt; fi", `writes = ["out.txt"]`))
		got := d.grayloft("run", "build@a")
		if d.read("a/out.txt") != "no\n" {
			t.Errorf("%s: %q %s", name, d.read("a/out.txt"), got.out)
		}
	}
}

// TestASealedTaskLeavesTheMachineAlone tries what an ordinary user may do
// outside a task, and then looks at what it was done to.
func TestASealedTaskLeavesTheMachineAlone(t *testing.T) {
	t.Parallel()
	eachUser(t, func(t *testing.T, uid int) {
		d := newDesk(t, uid, empty())
		target := filepath.Join(d.home, "private", "out", "diary.txt")
		before, err := os.Stat(target)
		if err != nil {
			t.Fatal(err)
		}
		socket := filepath.Join(d.home, "agent.sock")
		asked := listen(t, socket)
		d.own(d.home)
		victim := d.command(context.Background(), "sleep", "60")
		if err := victim.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = victim.Process.Kill(); _ = victim.Wait() })
		memory := d.command(context.Background(), "perl", "-e", `my $id = shmget(0x10f7, 64, 0666|01000) // die; shmwrite($id, "open", 0, 4); print $id`)
		segment, err := memory.Output()
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = exec.Command("ipcrm", "-m", string(segment)).Run() })
		master, slave := pseudoTerminal(t)
		if err := os.Chown(slave.Name(), uid, uid); err != nil && os.Getuid() == 0 {
			t.Fatal(err)
		}
		attempts := map[string]string{
			"stat":       `stat "$TARGET"`,
			"a listing":  `ls "$HOME_OF" || ls /home`,
			"chmod":      `chmod 777 "$TARGET"`,
			"times":      `touch -d 2001-01-01 "$TARGET"`,
			"attributes": `perl -e 'exit(syscall(188, $ENV{TARGET}, "user.x", "y", 1, 0) == 0 ? 0 : 1)'`,
			"a socket":   `perl -MIO::Socket::UNIX -e 'exit(IO::Socket::UNIX->new(Peer => $ENV{SOCKET}) ? 0 : 1)'`,
			"a signal":   `kill -9 "$VICTIM"`,
			"signal 0":   `kill -0 "$VICTIM"`,
			"memory":     `perl -e '$id = shmget(0x10f7, 64, 0) // exit 1; shmwrite($id, "pwnd", 0, 4) or exit 1'`,
			"a terminal": `echo pwned > "$TERMINAL"`,
			"tracing":    `[ -r "/proc/$VICTIM/status" ]`,
		}
		var script strings.Builder
		for name, attempt := range attempts {
			fmt.Fprintf(&script, "if ( %s ) >/dev/null 2>&1; then echo '%s' >> out.txt; fi\n", attempt, name)
		}
		script.WriteString("echo end >> out.txt")
		for name, text := range one("sealed", script.String(), `writes = ["out.txt"]`,
			`env = ["TARGET", "HOME_OF", "SOCKET", "VICTIM", "TERMINAL"]`) {
			d.write(filepath.Join(d.dir, name), strings.ReplaceAll(text, "REPO", d.repo))
		}
		d.own(d.dir)
		d.env = append(d.env, "TARGET="+target, "HOME_OF="+d.home, "SOCKET="+socket, "VICTIM="+strconv.Itoa(victim.Process.Pid),
			"TERMINAL="+slave.Name())
		got := d.grayloft("run", "build@a")
		if d.read("a/out.txt") != "end\n" {
			t.Errorf("these succeeded: %s%s", d.read("a/out.txt"), got.out)
		}
		if after, err := os.Stat(target); err != nil || after.Mode() != before.Mode() || !after.ModTime().Equal(before.ModTime()) {
			t.Errorf("the private file has changed: %v %v", after, err)
		}
		if n, _ := syscall.Getxattr(target, "user.x", make([]byte, 8)); n > 0 {
			t.Error("the private file has a new attribute")
		}
		if syscall.Kill(victim.Process.Pid, 0) != nil {
			t.Error("the other process is dead")
		}
		if asked() {
			t.Error("the socket was connected to")
		}
		if text := readSome(master); strings.Contains(text, "pwned") {
			t.Error("the terminal shows what the task wrote")
		}
		if out, _ := exec.Command("perl", "-e", `shmread(`+string(segment)+`, $x, 0, 4); print $x`).Output(); string(out) != "open" {
			t.Errorf("the shared memory contains %q", out)
		}
	})
}

// empty is a repository without tasks yet.
func empty() map[string]string {
	return map[string]string{"grayloft.toml": "schema = 1\n[repo]\nname = \"REPO\"\nprojects = [\"a\"]\n"}
}

// listen accepts connections at a path, and tells whether there was one.
func listen(t *testing.T, path string) (asked func() bool) {
	t.Helper()
	l, err := net.Listen("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	if err := os.Chmod(path, 0o777); err != nil {
		t.Fatal(err)
	}
	got := make(chan bool, 10)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.Close()
			got <- true
		}
	}()
	return func() bool { return len(got) > 0 }
}

func TestNoProcessOutlivesAKilledClient(t *testing.T) {
	t.Parallel()
	eachUser(t, func(t *testing.T, uid int) {
		for name, escape := range map[string]string{
			"that empties its environment":     `env -i sh -c 'sleep 61.MARK & sleep 61.MARK'`,
			"that leaves its session":          `setsid sleep 61.MARK & sleep 61.MARK`,
			"that does both":                   `setsid env -i PATH="$PATH" sh -c 'sleep 61.MARK & sleep 61.MARK' & sleep 61.MARK`,
			"that does both twice, as a child": `( setsid env -i PATH="$PATH" setsid sh -c '( sleep 61.MARK & ) ; sleep 61.MARK' & ) ; sleep 61.MARK`,
		} {
			for _, isolation := range []string{"open", "sealed"} {
				mark := fmt.Sprint(time.Now().UnixNano() % 1e9)
				d := newDesk(t, uid, one(isolation, strings.ReplaceAll(escape, "MARK", mark), `writes = ["out.txt"]`))
				cmd := d.command(context.Background(), program(t, "grayloft"), "run", "build@a")
				if err := cmd.Start(); err != nil {
					t.Fatal(err)
				}
				waitLong(t, "the task to start", func() bool { return sleeping(mark) > 0 })
				time.Sleep(50 * time.Millisecond) // for its other processes; nothing tells when the last one is there
				_ = cmd.Process.Kill()
				_ = cmd.Wait()
				gone := false
				for end := time.Now().Add(5 * time.Second); time.Now().Before(end) && !gone; time.Sleep(10 * time.Millisecond) {
					gone = sleeping(mark) == 0
				}
				both := strings.Contains(name, "both")
				if !gone {
					_ = exec.Command("pkill", "-9", "-f", "sleep 61."+mark).Run()
					if isolation == "open" && both && strings.Contains(d.grayloft("doctor").out, "no control group") {
						continue // the machine cannot find those, and doctor says so
					}
					t.Errorf("a process of a task, %s, %s, is still running", isolation, name)
				}
			}
		}
	})
}

// sleeping counts the processes that an attack has started.
func sleeping(mark string) int {
	out, _ := exec.Command("pgrep", "-fc", "^sleep 61."+mark).Output()
	n, _ := strconv.Atoi(strings.TrimSpace(string(out)))
	return n
}
