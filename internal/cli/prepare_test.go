package cli_test

import (
	"strings"
	"testing"
)

// What a checkout needs before its tasks, such as installed packages, is there for a plan and for a run. The
// scripts of packages do not get the job's token.
func TestARunnerPreparesTheCheckoutsOfItsJobs(t *testing.T) {
	y := newCrew(t, 0, map[string]string{
		".gitignore": "out/\ntool\n",
		"lib/loft.toml": "[task.build]\nrun = \"mkdir -p out; cat tool > out/out; cat tool\"\nreads = [\"tool\"]\n" +
			"writes = [\"out/**\"]\nprobes = []\n",
	})
	y.runner("north", "--prepare", "env | grep -c TOKEN= > lib/tool || true; echo the tool is here")
	if a := y.Grayloft("request", "build", "--preview", "--watch"); a.Code != 0 || !strings.Contains(a.Out, "1 of 1 task would run") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	a := y.Grayloft("request", "build", "--watch")
	if a.Code != 0 || !strings.Contains(a.Out, "$ env | grep") || !strings.Contains(a.Out, "the tool is here") {
		t.Fatalf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
	y.Write("lib/tool", "0\n")
	if rep := y.Run("build"); rep.Of("build@lib").Outcome != "fetched" {
		t.Errorf("the tool was made without a token: %+v", rep.Tasks)
	}

	y.runner("south", "--pool", "deploy", "--prepare", "echo no tool; exit 3")
	id := y.request("build", "--pool", "deploy")
	a = y.Grayloft("requests", id, "--watch")
	if a.Code != 1 || !strings.Contains(a.Out, "no tool") || strings.Contains(a.Out, "build@lib") ||
		!strings.Contains(a.Out+a.Err, "echo no tool; exit 3, which prepares checkouts on this runner: exit 3") {
		t.Errorf("exit %d: %s%s", a.Code, a.Out, a.Err)
	}
}
