package survey_test

import (
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

func TestToolsWriteWhereTheyDoByDefault(t *testing.T) {
	for _, c := range []struct{ name, script, ignored, writes, scratch string }{
		{"build", "next build", "/.next\nnext-env.d.ts\n", ".next/[!c]* next-env.d.ts", ".next/cache/**"},
		{"build", "next build", "/.next\n", ".next/[!c]*", ".next/cache/**"},
		{"build", "vite build", "/build\n", ".svelte-kit/output/** build/**", ""},
		{"build", "vite build", "", ".svelte-kit/output/**", ""},
		{"build", "nuxi build", "", ".output/**", ""},
		{"build", "gatsby build && sh pack.sh --out pages", "", "pages/** public/**", ""},
		{"docs", "storybook build", "dist\n", "storybook-static/**", ""},
		{"build", "node make.js", "dist\n", "dist/**", ""},
		{"test", "next build && node --test", "", "", ".next/cache/**"},
	} {
		s, _ := propose(t, repo(map[string]string{
			"package.json": `{"name": "quay", "scripts": {"` + c.name + `": "` + c.script + `"}, "devDependencies": {"@sveltejs/kit": "2"}}`,
			".gitignore":   c.ignored, "pack.sh": "", "make.js": "",
		}), Choices{})
		task := of(s, ".").Task(c.name)
		if got := strings.Join(task.Writes, " "); got != c.writes || strings.Join(task.Scratch, " ") != c.scratch {
			t.Errorf("%s: it writes %q, keeps %q; want %q, %q", c.script, got, task.Scratch, c.writes, c.scratch)
		}
	}
}

// A package of a registry may have the name of one of the repository.
func TestARequirementMayMeanAPackageOfTheSameName(t *testing.T) {
	for requirement, version := range map[string]string{
		"^1.2.0": "1.4.0", "workspace:^": "1.0.0", "*": "0.0.0", "1.x || >=2.5.0": "3.0.0", "link:../kit": "1.0.0", "^2.0.0": "", "^3.0.0": "0.0.0-dev",
		"latest": "1.0.0", "~1.2.3": "1.2.9",
	} {
		if IsOther(requirement, version) {
			t.Errorf("%s is not %s", requirement, version)
		}
	}
	for requirement, version := range map[string]string{"^2.0.0": "1.4.0", "5.1.0": "0.0.0", "~1.2.3": "1.3.0"} {
		if !IsOther(requirement, version) {
			t.Errorf("%s is %s", requirement, version)
		}
	}
	s, _ := propose(t, repo(map[string]string{
		"package.json":   `{"workspaces": ["*"]}`,
		"a/package.json": `{"name": "a", "dependencies": {"fold": "^5.0.0", "kit": "^1.0.0"}, "scripts": {"build": "true"}}`, "a/a.js": "import 'fold/x';\nimport 'kit';\n",
		"fold/package.json": `{"name": "fold", "version": "0.0.0"}`, "kit/package.json": `{"name": "kit", "version": "1.1.0"}`,
	}), Choices{})
	if got := strings.Join(needs(of(s, "a")), " "); got != "kit" {
		t.Errorf("needs %q", got)
	}
}
