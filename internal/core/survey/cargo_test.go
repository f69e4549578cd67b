package survey_test

import (
	"slices"
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

// Crates use each other by a path of their own, by one of their workspace, on one platform only, and
// because the workspace puts one in place of another; the lock file is that of the workspace.
func TestCratesOfAWorkspace(t *testing.T) {
	crate := func(name, rest string) string {
		return "[package]\nname = \"" + name + "\"\nversion = \"0.1.0\"\n" + rest
	}
	s, _ := propose(t, repo(map[string]string{
		"Cargo.toml": "[workspace]\nmembers = [\"crates/*\"]\nexclude = [\"old\", \"tools/gen\"]\n[workspace.dependencies]\n" +
			"tides = { path = \"crates/tides\" }\nfog = \"1\"\n[patch.crates-io]\nswell = { path = \"crates/swell\" }\n",
		"Cargo.lock":               "",
		"crates/tides/Cargo.toml":  crate("tides", ""),
		"crates/swell/Cargo.toml":  crate("swell", "[dependencies]\nfog.workspace = true\n"),
		"crates/wind/Cargo.toml":   crate("wind", ""),
		"crates/ferry/Cargo.toml":  crate("ferry", "[dependencies]\ntides = { workspace = true }\nswell = \"2\"\n[target.'cfg(unix)'.dev-dependencies]\nwind = { path = \"../wind\" }\n"),
		"crates/ferry/src/main.rs": "fn main() {}\n",
		"crates/tides/src/lib.rs":  "", "crates/swell/src/lib.rs": "", "crates/wind/src/lib.rs": "",
		"deep/quay/Cargo.toml":   crate("quay", "[dependencies]\ntides.workspace = true\n"), // a member by a path dependency
		"tools/gen/Cargo.toml":   crate("gen", ""),
		"tools/gen/src/main.rs":  "fn main() {}\n",
		"old/a/Cargo.toml":       crate("a", ""),
		"apart/x/y/Cargo.toml":   crate("y", "workspace = \"../..\"\n"),
		"apart/Cargo.toml":       "[workspace]\n[workspace.dependencies]\n",
		"crates/ferry/README.md": "",
	}), Choices{})
	for dir, want := range map[string]string{
		"crates/ferry": "crates/swell crates/tides crates/wind", "crates/swell": "", "deep/quay": "crates/tides", "tools/gen": "",
	} {
		if got := needs(of(s, dir)); strings.Join(got, " ") != want {
			t.Errorf("%s needs %v, want %s", dir, got, want)
		}
	}
	for dir, want := range map[string]bool{"crates/ferry": true, "deep/quay": true, "tools/gen": false, "old/a": false, "apart/x/y": false} {
		if got := slices.Contains(of(s, dir).Task("test").Reads, "repo:Cargo.lock"); got != want {
			t.Errorf("the lock file counts for %s: %v", dir, got)
		}
	}
	if !slices.Contains(of(s, "apart/x/y").Task("test").Reads, "repo:apart/Cargo.toml") {
		t.Errorf("the workspace that it names: %v", of(s, "apart/x/y").Task("test").Reads)
	}
}

// A result that is reused has to bring the programs that the task makes.
func TestProgramsOfCratesAreOutputs(t *testing.T) {
	for _, c := range []struct {
		what   string
		add    map[string]string
		writes string
		sort   Reusability
	}{
		{"a library", map[string]string{"src/lib.rs": ""}, "", Reusable},
		{"a program", map[string]string{"src/main.rs": ""}, "target/debug/tide", Reusable},
		{"several", map[string]string{
			"src/main.rs": "", "src/bin/ebb.rs": "", "src/bin/flow/main.rs": "", "src/bin/flow/deep.rs": "",
		}, "target/debug/ebb target/debug/flow target/debug/tide", Reusable},
		{"by name", map[string]string{"src/main.rs": "", "Cargo.toml": "[[bin]]\nname = \"gauge\"\npath = \"src/main.rs\"\n"}, "target/debug/gauge", Reusable},
		{"only by name", map[string]string{"src/bin/x.rs": "", "Cargo.toml": "autobins = false\n"}, "", Reusable},
		{"elsewhere", map[string]string{"src/main.rs": "", ".cargo/config.toml": "[build]\ntarget-dir = \"../out\"\n"}, "", NeverReusable},
		{"in a workspace", map[string]string{"src/main.rs": "", "/Cargo.toml": "[workspace]\n"}, "", NeverReusable},
		{"a library in a workspace", map[string]string{"src/lib.rs": "", "/Cargo.toml": "[workspace]\n"}, "", Reusable},
	} {
		files := map[string]string{}
		for name, text := range c.add {
			if at, fromRoot := strings.CutPrefix(name, "/"); fromRoot {
				files[at] = text
			} else {
				files["crates/tide/"+name] = text
			}
		}
		files["crates/tide/Cargo.toml"] = "[package]\nname = \"tide\"\n" + c.add["Cargo.toml"]
		s, _ := propose(t, repo(files), Choices{})
		build := of(s, "crates/tide").Task("build")
		if got := strings.Join(build.Writes, " "); got != c.writes || build.Sort != c.sort || (build.Writes == nil) != (c.sort == NeverReusable) {
			t.Errorf("%s: %q, %d (%s); want %q, %d", c.what, got, build.Sort, build.Why, c.writes, c.sort)
		}
	}
}
