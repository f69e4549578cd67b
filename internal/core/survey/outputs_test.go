package survey_test

import (
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

// What git tracks is no output: a checkout brings it.
func TestATaskThatWritesTrackedFilesIsNeverReused(t *testing.T) {
	for tracked, want := range map[string]Reusability{"lib/a.js": NeverReusable, "libs/a.js": Reusable} {
		r := repo(map[string]string{
			"package.json": `{"name": "quay", "scripts": {"build": "node build.mjs --out-dir lib"}}`, "build.mjs": "", "lib/a.js": "", "libs/a.js": "",
		})
		r.Tracked = []string{"package.json", "build.mjs", tracked}
		s, _ := propose(t, r, Choices{})
		build := of(s, ".").Task("build")
		if build.Sort != want || (build.Writes == nil) != (want == NeverReusable) {
			t.Errorf("%s is tracked: %+v", tracked, build)
		}
	}
}

func TestTasksThatMayWriteTheSameFilesAreProposedOneWriter(t *testing.T) {
	r := repo(map[string]string{"package.json": `{"name": "quay", "scripts": {
		"bundle": "node b.mjs --out-dir lib", "bundle-modern": "node b.mjs --modern --out-dir lib/modern",
		"site": "node p.mjs --out site", "site-draft": "node p.mjs --draft --out site"}}`, "b.mjs": "", "p.mjs": ""})
	s, _ := propose(t, r, Choices{}) // which reads the proposal, and fails on an error in it
	quay := of(s, ".")
	for name, want := range map[string]string{"bundle": "", "bundle-modern": "lib/modern/**", "site": "site/**", "site-draft": ""} {
		if got := strings.Join(quay.Task(name).Writes, " "); got != want {
			t.Errorf("%s writes %q, want %q", name, got, want)
		}
	}
	if why := quay.Task("bundle").WritesWhy; why != "it seems to write lib/**, and bundle-modern writes lib/modern/**" {
		t.Error(why)
	}
}

// What tools look for in the directories around a project counts, and nothing else there.
func TestConfigurationAroundAProjectIsRead(t *testing.T) {
	s, _ := propose(t, repo(map[string]string{
		".lintrc.json": "", "tsconfig.base.json": "", "sail.config.mjs": "", ".sailignore": "", "README.md": "", "main.js": "", "notes.json": "",
		"web/package.json":      `{"name": "all", "workspaces": ["quay"], "lint": {"strict": true}}`,
		"web/quay/package.json": `{"name": "quay", "scripts": {"lint": "node lint.js"}}`, "web/quay/.lintrc.json": "", "web/quay/lint.js": "",
		"rust-toolchain.toml": "", ".cargo/config.toml": "", ".cargo/credentials": "", "crates/a/Cargo.toml": "[package]\nname = \"a\"\n",
		"pytest.ini": "", "conftest.py": "", "py/setup.py": "", "py/tests/test_a.py": "", "tests/test_b.py": "",
	}), Choices{})
	for address, want := range map[string]string{
		"lint@web/quay": "repo:.lintrc.json repo:.sailignore repo:sail.config.mjs repo:tsconfig.base.json repo:web/package.json",
		"test@crates/a": "!target/** repo:rust-toolchain.toml repo:.cargo/config.toml",
		"test@py":       "repo:conftest.py repo:pytest.ini",
	} {
		name, dir, _ := strings.Cut(address, "@")
		if got := strings.Join(of(s, dir).Task(name).Reads, " "); got != want {
			t.Errorf("%s reads %q, want %q", address, got, want)
		}
	}
	if Configures(`{"name": "a", "scripts": {}, "packageManager": "npm@10"}`) {
		t.Error("a manifest without the configuration of a tool is taken for one")
	}
}

// What a Makefile says that a target makes are its outputs.
func TestTargetsOfAMakefileAreOutputs(t *testing.T) {
	for _, c := range []struct{ what, text, want string }{
		{"files", "OUT = gen\nall: $(OUT)/rates.json ./board.txt\n%.json: %.csv\n\tsh fold.sh\n", "board.txt gen/rates.json"},
		{"through another one", ".PHONY: parts\nall: parts\n\ttrue\nparts: a.txt\na.txt: a.csv\n\tcp a.csv a.txt\n", "a.txt"},
		{"with what it names itself", "all: a.txt\n\ttar -cf pack.tar a.txt\n", "a.txt pack.tar"},
		{"sources", "all: a.csv fold.sh\n\tsh fold.sh > out.txt\n", "out.txt"},
		{"only to be there", "all: a.txt | tmp\n", "a.txt"},
		{"computed names", "all: a.txt $(wildcard *.md)\n", ""},
		{"by a pattern", "all: a.txt b%.txt\n", ""},
		{"an installation", "all: a.txt node_modules\n", ""},
		{"a stamp", "all: a.txt .deps\n", ""},
		{"elsewhere", "all: a.txt ../b.txt\n", ""},
	} {
		s, _ := propose(t, repo(map[string]string{"quay/Makefile": ".PHONY: all\n" + c.text, "quay/a.csv": "", "quay/fold.sh": ""}), Choices{})
		build := of(s, "quay").Task("build")
		if got := strings.Join(build.Writes, " "); got != c.want {
			t.Errorf("%s: it writes %q, want %q (%s)", c.what, got, c.want, build.Why)
		}
	}
}
