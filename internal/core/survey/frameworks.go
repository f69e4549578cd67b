package survey

import (
	"path"
	"slices"

	"grayloft.example/grayloft/internal/core/pattern"
)

// framework is a tool that writes to directories of its own, as its documentation says.
type framework struct {
	command *pattern.Pattern
	with    string   // a package that makes it so; empty if the command does
	writes  []string // in the directory of the package
	scratch []string // what it keeps for its next run, and that its results do not depend on
}

var frameworks = []framework{
	// https://nextjs.org/docs/app/api-reference/config/next-config-js/distDir: all but .next/cache.
	{pattern.New(`\bnext build\b`), "", []string{".next/[!c]*"}, []string{".next/cache/**"}},
	// https://svelte.dev/docs/kit/project-structure
	{pattern.New(`\bvite build\b`), "@sveltejs/kit", []string{".svelte-kit/output/**"}, nil},
	// https://nuxt.com/docs/guide/directory-structure/output
	{pattern.New(`\b(nuxt|nuxi) (build|generate)\b`), "", []string{".output/**"}, nil},
	// https://www.gatsbyjs.com/docs/reference/gatsby-project-structure
	{pattern.New(`\bgatsby build\b`), "", []string{"public/**"}, nil},
	// https://storybook.js.org/docs/sharing/publish-storybook
	{pattern.New(`\b(storybook build|build-storybook)\b`), "", []string{"storybook-static/**"}, nil},
	// https://create-react-app.dev/docs/available-scripts, https://docusaurus.io/docs/cli
	{pattern.New(`\b(docusaurus|react-scripts) build\b`), "", []string{"build/**"}, nil},
	// https://www.11ty.dev/docs/config
	{pattern.New(`\beleventy\b`), "", []string{"_site/**"}, nil},
}

// byFramework returns what a script of a package writes, and keeps, by the framework that it starts.
func (s *surveyor) byFramework(m npmPackage, script string) (writes, scratch []string) {
	for _, f := range frameworks {
		if !f.command.MatchString(script) || f.with != "" && m.Dependencies[f.with]+m.DevDependencies[f.with] == "" {
			continue
		}
		writes, scratch = append(writes, f.writes...), append(scratch, f.scratch...)
		if f.with != "" && s.isIgnored(path.Join(m.dir, "build"), true) { // of what finishes its output for a server
			writes = append(writes, "build/**")
		}
		if at := path.Join(m.dir, "next-env.d.ts"); slices.Contains(f.writes, ".next/[!c]*") && s.isIgnored(at, false) {
			writes = append(writes, "next-env.d.ts")
		}
	}
	return writes, scratch
}
