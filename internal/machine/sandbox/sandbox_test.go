package sandbox

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func TestMain(m *testing.M) {
	Enter()
	os.Exit(m.Run())
}

func TestTheTraceIsReadWhateverOrderCallsEndIn(t *testing.T) {
	const trace = `7 chdir("sub") = 0
7 openat(AT_FDCWD</repo/sub>, "a b", O_RDONLY) = 3</repo/sub/a b>
7 clone(child_stack=NULL, flags=SIGCHLD) = 9
9 openat(AT_FDCWD</repo/sub>, "slow", O_RDONLY <unfinished ...>
7 openat(AT_FDCWD</repo/sub>, "../made", O_WRONLY|O_CREAT|O_TRUNC, 0666) = 3</repo/made>
9 <... openat resumed>) = 4</repo/sub/slow>
9 execve("./tool", ["./tool", "x) = 3</etc>"], 0x7ffd /* 3 vars */) = 0
9 renameat2(5</repo/tmp>, "x", AT_FDCWD</repo/sub>, "y\303\251", 0) = 0
9 openat(AT_FDCWD</repo/sub>, ".", O_RDONLY|O_DIRECTORY) = 3</repo/sub>
9 openat(AT_FDCWD</repo/sub>, "both", O_RDWR) = 3</repo/sub/both>
9 exit
garbage
`
	var o Opened
	o.Read, o.Wrote = map[string]bool{}, map[string]bool{}
	if err := o.follow(strings.NewReader(trace), "/repo"); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(slices.Sorted(maps.Keys(o.Read)), " "); got != "/repo/sub/a b /repo/sub/both /repo/sub/slow /repo/sub/tool" {
		t.Errorf("read %s", got)
	}
	if got := strings.Join(slices.Sorted(maps.Keys(o.Wrote)), " "); got != "/repo/made /repo/sub/both /repo/sub/yé /repo/tmp/x" {
		t.Errorf("wrote %s", got)
	}
	if err := o.follow(strings.NewReader(""), "/repo"); err == nil {
		t.Error("a trace of nothing is taken for one of a command that opened nothing")
	}
}

func FuzzTrace(f *testing.F) {
	f.Add("7 openat(AT_FDCWD</r>, \"a\", O_RDONLY) = 3</r/a>\n7 rename(\"a\\303\", \"\\\\\") = 0\n")
	f.Fuzz(func(t *testing.T, text string) {
		var o Opened
		o.Read, o.Wrote = map[string]bool{}, map[string]bool{}
		_ = o.follow(strings.NewReader(text), "/r")
	})
}

// Each restriction works without the others.
func TestEachRestrictionWorksAlone(t *testing.T) {
	full := Able(t.TempDir())
	if !full.Files {
		t.Skip("this machine has no Landlock")
	}
	for name, a := range map[string]Ability{
		"Landlock alone": {Files: true, Network: "landlock"}, "without a process namespace": {Files: true, Place: true, Network: "namespace"}, "all": full,
	} {
		dir := t.TempDir()
		for _, d := range []string{TreeDir, HomeDir, TempDir} {
			if err := os.Mkdir(filepath.Join(dir, d), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		secret := filepath.Join(t.TempDir(), "secret")
		if err := os.WriteFile(secret, []byte("s"), 0o644); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("sh", "-c", "mkdir a b; touch a/x; ln a/x b/x && echo made > made; cat "+secret+" >> made; echo x > "+secret+"; true")
		cmd.Env = os.Environ()
		fault, _, err := Wrap(cmd, Stage{Dir: dir}, a)
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if err := fault(); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if err := cmd.Wait(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		made, _ := os.ReadFile(filepath.Join(dir, TreeDir, "made"))
		kept, _ := os.ReadFile(secret)
		if string(made) != "made\n" || string(kept) != "s" {
			t.Errorf("%s: it made %q, and left %q", name, made, kept)
		}
	}
}

func TestAFailureToStartIsReported(t *testing.T) {
	a := Able(t.TempDir())
	dir := t.TempDir()
	for _, d := range []string{TreeDir, HomeDir, TempDir} {
		if err := os.Mkdir(filepath.Join(dir, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command("no-such-program-anywhere")
	cmd.Env = os.Environ()
	fault, _, err := Wrap(cmd, Stage{Dir: dir}, a)
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	err = fault()
	_ = cmd.Wait()
	if err == nil || !strings.Contains(err.Error(), "no-such-program-anywhere") {
		t.Errorf("%v", err)
	}
}
