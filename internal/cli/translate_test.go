package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

var yard = map[string]string{
	"grayloft.toml": "schema = 1\n[repo]\nname = \"yard\"\nprojects = [\"libs/*\"]\n[setting.lto]\nvalues = [\"none\", \"thin\"]\ndefault = \"none\"\n",
	"libs/x/loft.toml": "[project]\nname = \"x\"\n[task.build]\nrun = \"LTO=%{setting.lto} make --silent build\"\nwrites = []\nprobes = []\n" +
		"[task.check]\nrun = \"./check.sh\"\n",
	"libs/x/Makefile": "build:\n\t@echo built with $(LTO)\n",
	"libs/x/check.sh": "#!/bin/sh\necho checked\n",
	"build.sh":        "#!/bin/sh\nmake -C libs/x build\n",
}

func TestTranslate(t *testing.T) {
	t.Parallel()
	r := trial.New(t, yard)
	a := r.Grayloft("translate", "LTO=thin make -C libs/x build")
	if a.Code != 0 || a.Out != "grayloft run build@x --set lto=thin\n" ||
		!strings.Contains(a.Err, "build@x runs LTO=%{setting.lto} make --silent build") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft(append([]string{"translate", "--quiet"}, strings.Fields("cd libs/x && make build && ./check.sh")...)...); a.Code != 0 ||
		a.Out != "grayloft run build@x check@x\n" ||
		a.Err != "" {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.GrayloftIn("libs/x", "translate", "DEBUG=1 make build"); a.Code != 1 || a.Out != "" ||
		!strings.Contains(
			a.Err,
			"No task does the same as DEBUG=1 make build. What is alike:\n  build@x: it runs the same, but nothing passes DEBUG",
		) {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("translate", "sail north"); a.Code != 1 ||
		!strings.Contains(a.Err, "No task runs sail north, or anything like it") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("translate", "make | tee"); a.Code != 2 || !strings.Contains(a.Err, "more than a simple command") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("translate", "--format", "json", "make -C libs/x build"); a.Code != 0 ||
		!strings.Contains(a.Out, `"grayloft run build@x"`) {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
}

// A wrapper prints the new command and runs it, from wherever it is called; the
// variables of the old script still count.
func TestAWrapperRunsTheNewCommand(t *testing.T) {
	t.Parallel()
	r := trial.New(t, yard)
	if a := r.Grayloft("translate", "--wrap", "build.sh", "make -C libs/x build"); a.Code != 0 ||
		a.Err != "build.sh runs grayloft run build@x.\n" {
		t.Fatalf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("translate", "--wrap", "tools/old/b.sh", "LTO=thin make -C libs/x build"); a.Code != 3 {
		t.Errorf("in a directory that is not there: exit %d, %s", a.Code, a.Err)
	}
	bin := t.TempDir()
	client := r.Command("version")
	if err := os.Symlink(client.Path, filepath.Join(bin, "grayloft")); err != nil {
		t.Fatal(err)
	}
	run := func(env ...string) string {
		t.Helper()
		cmd := exec.Command(r.Path("build.sh"))
		cmd.Dir = t.TempDir()
		cmd.Env = append(append(client.Env, "PATH="+bin+":"+os.Getenv("PATH")), env...)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%v: %s", err, out)
		}
		return string(out)
	}
	if out := run(); !strings.Contains(out, "grayloft run build@x\n") || !strings.Contains(out, "built with none") {
		t.Errorf("%s", out)
	}
	if out := run("LTO=thin"); !strings.Contains(out, "grayloft run build@x --set lto=thin") ||
		!strings.Contains(out, "built with thin") {
		t.Errorf("%s", out)
	}
	for args, says := range map[string]string{
		"build.sh ./libs/x/check.sh": "--wrap needs exactly one task",
		"../out.sh make":             "--wrap needs exactly one task",
	} {
		file, old, _ := strings.Cut(args, " ")
		if a := r.Grayloft("translate", "--wrap", file, old); a.Code != 2 || !strings.Contains(a.Err, says) {
			t.Errorf("%s: exit %d, %s", args, a.Code, a.Err)
		}
	}
	if a := r.GrayloftIn("libs/x", "translate", "--wrap", "check.sh", "./check.sh"); a.Code != 2 ||
		!strings.Contains(a.Err, "runs this file itself") {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	if a := r.Grayloft("translate", "--wrap", "build.sh", "make -C libs/x build"); a.Code != 2 ||
		!strings.Contains(a.Err, "changes that git does not have") {
		t.Errorf("over a file that is not committed: exit %d, %s", a.Code, a.Err)
	}
}
