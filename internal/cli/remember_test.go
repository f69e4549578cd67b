package cli_test

import (
	"os"
	"strconv"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// Answers of probes are remembered for the files of a few branches, and not for all that ever were.
func TestOldAnswersOfProbesAreForgotten(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		".gitignore": "asked\n",
		"grayloft.toml": "schema = 1\n[repo]\nprojects = [\"quay\", \"rope\"]\n[probe.v]\nrun = \"cat v; echo x >> ../asked\"\n" +
			"reads = [\"v\"]\nper = \"project\"\n",
		"quay/v": "0", "rope/v": "0",
		"quay/loft.toml": "[task.build]\nrun = \"true\"\nreads = [\"in\"]\nwrites = []\nprobes = [\"v\"]\n",
		"rope/loft.toml": "[task.build]\nrun = \"true\"\nreads = [\"in\"]\nwrites = []\nprobes = [\"v\"]\n",
	})
	asked := func(v int) int {
		t.Helper()
		r.Write("quay/v", strconv.Itoa(v))
		if err := os.RemoveAll(r.Path("asked")); err != nil {
			t.Fatal(err)
		}
		if a := r.Grayloft("plan", "build"); a.Code != 0 {
			t.Fatalf("exit %d: %s%s", a.Code, a.Out, a.Err)
		}
		text, _ := os.ReadFile(r.Path("asked"))
		return strings.Count(string(text), "x")
	}
	if n := asked(0); n != 2 {
		t.Errorf("at first, %d probes ran", n)
	}
	for v := 1; v < 12; v++ {
		if n := asked(v); n != 1 {
			t.Errorf("%d: %d probes ran", v, n)
		}
	}
	for _, v := range []int{9, 10, 11} {
		if n := asked(v); n != 0 {
			t.Errorf("back at %d, %d probes ran", v, n)
		}
	}
	if names, err := os.ReadDir(r.Path(".grayloft/probes")); err != nil || len(names) > 5 {
		t.Errorf("%d answers of two projects are remembered, %v", len(names), err)
	}
}
