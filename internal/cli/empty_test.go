package cli_test

import (
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// Somebody wrote a loft.toml, and forgot to say where projects are.
func TestARepositoryWhoseProjectsNobodyListedSaysSo(t *testing.T) {
	t.Parallel()
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"test\"\n", "app/in": "1\n",
		"app/loft.toml": "[task.pack]\nrun = \"true\"\nreads = [\"in\"]\nwrites = []\nprobes = []\n",
	})
	const how = "add a loft.toml with tasks to a directory that matches [repo] projects in grayloft.toml"
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"tasks", 0, "No tasks yet: " + how},
		{"run", 2, "the repository declares no tasks; " + how},
		{"plan pack", 2, `no task is named "pack": the repository declares no tasks; ` + how},
		{"check", 0, `app/loft.toml:1:1  warning  nothing reads app/loft.toml: add "app" to [repo] projects in grayloft.toml`},
	} {
		a := r.Grayloft(strings.Fields(c.args)...)
		if a.Code != c.code || !strings.Contains(a.Out+a.Err, c.says) {
			t.Errorf("%s: exit %d\n%s%s", c.args, a.Code, a.Out, a.Err)
		}
	}
}
