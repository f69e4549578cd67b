package survey_test

import (
	"slices"
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

// Variables that a bundler takes from an ignored file are in what it makes.
func TestIgnoredFilesWithVariablesAreRead(t *testing.T) {
	for _, c := range []struct{ what, name, script, more, ignored, want string }{
		{"a bundler", "build", "vite build", "", "*.local\n", ".env.local .env.production.local"},
		{"after another command", "build", "mkdir -p dist && next build", "", "/packages/a/.env.local\n", ".env.local"},
		{"tests", "test", "vitest run", "", ".env*\n!.env.test\n", ".env .env.local .env.test.local"},
		{"rules of the package", "build", "vite build", "", "", ""},
		{"an option", "build", "node --env-file=.env make.js", "", ".env\n", ".env"},
		{"a library", "build", "node make.js", `, "dependencies": {"dotenv": "1"}`, ".env\n", ".env"},
		{"no such tool", "build", "node vite-free.js", "", ".env\n", ""},
		{"not ignored", "build", "vite build", "", "dist\n.env/\n", ""},
	} {
		files := map[string]string{
			"package.json":            `{"workspaces": ["packages/*"]}`,
			"packages/a/package.json": `{"name": "a", "scripts": {"` + c.name + `": "` + c.script + `"}` + c.more + `}`,
			".gitignore":              c.ignored,
		}
		s, _ := propose(t, repo(files), Choices{})
		var got []string
		for _, r := range of(s, "packages/a").Task(c.name).Reads {
			if strings.HasPrefix(r, ".env") {
				got = append(got, r)
			}
		}
		if slices.Sort(got); strings.Join(got, " ") != c.want {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
}

func TestVariablesThatABundlerPutsIntoSources(t *testing.T) {
	s, _ := propose(t, repo(map[string]string{
		"package.json": `{"name": "quay", "scripts": {"build": "node make.js"}}`, "make.js": "process.env.LEVEL\n",
		"a.svelte": "<p>{import.meta.env.VITE_HARBOUR} {import.meta.env['VITE_PIER']} {import.meta.env.PROD}</p>\n",
	}), Choices{})
	var got []string
	for _, v := range s.Variables {
		got = append(got, v.Name)
	}
	if slices.Sort(got); !slices.Equal(got, []string{"LEVEL", "VITE_HARBOUR", "VITE_PIER"}) {
		t.Errorf("%q", got)
	}
}
