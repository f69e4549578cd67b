package decl

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
)

func TestWhatAnInstalledRecordImplies(t *testing.T) {
	for _, c := range []struct {
		rows, reads, dirs, want string
	}{
		{`installed = "repo:node_modules/.package-lock.json"`,
			"repo:node_modules/.package-lock.json repo:package.json repo:package-lock.json repo:npm-shrinkwrap.json package.json", "repo:node_modules node_modules", ""},
		{`installed = "node_modules/.package-lock.json"`, "node_modules/.package-lock.json package.json package-lock.json npm-shrinkwrap.json", "node_modules", ""},
		{`installed = "repo:web/node_modules/.pnpm/lock.yaml"` + "\nper = \"project\"\ndirs = [\"/opt/web\"]",
			"repo:web/node_modules/.pnpm/lock.yaml repo:web/node_modules/.modules.yaml repo:web/pnpm-lock.yaml package.json", "/opt/web", ""},
		{`installed = "repo:.pnp.cjs"`, "repo:.pnp.cjs repo:yarn.lock package.json", "repo:.yarn home:.yarn/berry", ""},
		{`installed = "repo:node_modules/.yarn-integrity"`, "", "", "name one of these"},
		{`installed = "repo:../node_modules/.package-lock.json"`, "", "", "name one of these"},
		{`installed = "repo:a*/node_modules/.package-lock.json"`, "", "", "name one of these"},
		{"installed = \"node_modules/.package-lock.json\"\nrun = \"true\"", "", "", "both run and installed"},
		{"installed = \"node_modules/.package-lock.json\"\nreads = []", "", "", "cannot be given"},
		{"installed = \"node_modules/.package-lock.json\"\nper = \"repo\"", "", "", "cannot be given"},
	} {
		text := "schema = 1\n[repo]\nname = \"quay\"\n[probe.packages]\n" + c.rows + "\n"
		repo, ps, err := Load(fstest.MapFS{"grayloft.toml": {Data: []byte(text)}}, "quay")
		if err != nil {
			t.Fatal(err)
		}
		if c.want != "" {
			if len(ps) != 1 || !strings.Contains(ps.Error(), c.want) {
				t.Errorf("%s: %v", c.rows, ps)
			}
			continue
		}
		p := repo.Probes["packages"]
		if len(ps) > 0 || p == nil || !p.PerProject || !p.Rememberable || strings.Join(p.Dirs, " ") != c.dirs {
			t.Fatalf("%s: %v, %+v", c.rows, ps, p)
		}
		var reads []string
		for _, r := range p.Reads {
			reads = append(reads, r.Item.Text)
		}
		if !slices.Equal(reads, strings.Fields(c.reads)) {
			t.Errorf("%s reads %q", c.rows, reads)
		}
	}
}

// Only where patterns start are files looked at, and none is missed.
func TestTheFilesOfAProbe(t *testing.T) {
	paths := []string{"a", "a-b/c", "a/b", "a/b.go", "a/c/d.go", "a/c/e", "ab", "b/a/b", "b/c.go", "v"}
	for _, list := range []string{`"v"`, `"repo:v", "b*"`, `"**/*.go", "!c/**"`, `"c"`, `"repo:a", "!repo:a/c"`, `"*"`, `"repo:**"`, `"c/e", "c", "repo:a/c/d.go"`} {
		text := "schema = 1\n[repo]\nname = \"quay\"\n[probe.v]\nrun = \"x\"\nper = \"project\"\nreads = [" + list + "]\n"
		repo, ps, err := Load(fstest.MapFS{"grayloft.toml": {Data: []byte(text)}}, "quay")
		if err != nil || len(ps) > 0 {
			t.Fatal(err, ps)
		}
		p := repo.Probes["v"]
		for _, dir := range []string{".", "a", "b", "a/c"} {
			var want []string
			for _, f := range paths {
				if p.ReadsFile(dir, f) {
					want = append(want, f)
				}
			}
			if got := p.FilesOf(dir, paths); !slices.Equal(got, want) {
				t.Errorf("%s in %s: %q, want %q", list, dir, got, want)
			}
		}
	}
}

// A toolchain is in a directory of its own: a repository cannot open somebody's home, or the machine.
func TestDirectoriesOfToolsAreNarrow(t *testing.T) {
	for dir, ok := range map[string]bool{
		"home:go": true, "/usr/lib/go": true, "repo:node_modules": true, "node_modules": true,
		"home:.": false, "home:": false, "home:..": false, "home:../x": false, "home:a/../..": false, "/": false, "/usr/../root": false, "repo:..": false, "..": false,
	} {
		text := fmt.Sprintf("schema = 1\n[repo]\nname = \"quay\"\n[probe.v]\nrun = \"x\"\ndirs = [%q]\n", dir)
		if _, ps, err := Load(fstest.MapFS{"grayloft.toml": {Data: []byte(text)}}, "quay"); err != nil || (len(ps) == 0) != ok {
			t.Errorf("%s: %v, %v", dir, ps, err)
		}
	}
}
