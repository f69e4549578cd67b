package survey_test

import (
	"slices"
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

// A lock file says what is to be installed, not what is. What a package manager records of that counts for
// packages without dependencies of their own, too: they use those of the root.
func TestWhatIsInstalledCountsWhateverInstalledIt(t *testing.T) {
	const (
		later = "yarn.lock\n\n__metadata:\n  version: 8\n"
		npm   = `package-lock.json
{"packages": {"": {}, "node_modules/fog": {"version": "1.0.0"}}}`
	)
	for _, c := range []struct{ lock, settings, want string }{
		{npm, "", "node_modules/.package-lock.json"},
		{"npm-shrinkwrap" + strings.TrimPrefix(npm, "package-lock"), "", "node_modules/.package-lock.json"},
		{"pnpm-lock.yaml\nlockfileVersion: 9\n\npackages:\n", "", "node_modules/.pnpm/lock.yaml"},
		{"yarn.lock\n# yarn lockfile v1\n\nfog@1:\n  resolved \"x\"\n", "", "node_modules/.yarn-integrity"},
		{later, "", ".pnp.cjs"},
		{later, "nodeLinker: 'pnp'\npnpEnableInlining: false\n", ".pnp.data.json"},
		{later, "compressionLevel: 0\nnodeLinker: \"node-modules\"\n", "node_modules/.yarn-state.yml"},
		{later, "nodeLinker: pnpm\n", ""}, // nothing says so in one file
		{"package-lock.json\n{}", "", ""}, // nothing is installed
	} {
		name, text, _ := strings.Cut(c.lock, "\n")
		for _, depends := range []string{`"dependencies": {"fog": "1"}`, `"private": true`} {
			files := map[string]string{
				name: text, "package.json": `{"name": "quay", "workspaces": ["web"]}`,
				"web/package.json": `{"name": "web", "scripts": {"test": "node test.js"}, ` + depends + `}`,
			}
			if c.settings != "" {
				files[".yarnrc.yml"] = c.settings
			}
			s, _ := propose(t, repo(files), Choices{})
			test := of(s, "web").Task("test")
			i := slices.IndexFunc(s.Probes, func(p Probe) bool { return p.Name == "packages" })
			switch {
			case c.want == "" && (i >= 0 || !slices.Contains(test.Reads, "repo:"+name)):
				t.Errorf("%q, %s: %+v reads %q", c.lock+c.settings, depends, s.Probes, test.Reads)
			case c.want == "":
			case i < 0 || !slices.Contains(test.Probes, "packages"):
				t.Errorf("%q, %s: %+v, %q", c.lock+c.settings, depends, s.Probes, test.Probes)
			case s.Probes[i].Installed != "repo:"+c.want && !slices.Equal(s.Probes[i].Reads, []string{c.want, "yarn.lock"}):
				t.Errorf("%q, %s: %+v", c.lock+c.settings, depends, s.Probes[i])
			}
		}
	}
}

// A package that the lock file at the root does not know is installed by itself.
func TestAPackageOutsideTheWorkspaceHasItsOwnRecord(t *testing.T) {
	const (
		lock = `{"packages": {"": {}, "node_modules/fog": {"version": "1.0.0"}}}`
		test = `"scripts": {"test": "node test.js"}`
	)
	s, _ := propose(t, repo(map[string]string{
		"package.json": `{"name": "quay"}`, "package-lock.json": lock,
		"example/package.json": `{"name": "example", "dependencies": {"fog": "1"}, ` + test + `}`,
		"alone/package.json":   `{"name": "alone", "dependencies": {"fog": "1"}, ` + test + `}`, "alone/package-lock.json": lock,
		"plain/package.json": `{"name": "plain", ` + test + `}`,
	}), Choices{})
	for dir, want := range map[string]string{
		"example": "node_modules/.package-lock.json", "alone": "node_modules/.package-lock.json",
		"plain": "repo:node_modules/.package-lock.json", // it has the programs of the root
	} {
		got := ""
		for _, p := range s.Probes {
			if p.Installed != "" && slices.Contains(of(s, dir).Task("test").Probes, p.Name) {
				got = p.Installed
			}
		}
		if got != want {
			t.Errorf("%s looks up what is installed in %q, want %q", dir, got, want)
		}
	}
}
