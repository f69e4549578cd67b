package survey

import (
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"grayloft.example/grayloft/internal/core/pattern"
)

var (
	// loadsSettings matches scripts with a tool that reads variables from files beside the package
	// (https://vite.dev/guide/env-and-mode, https://nextjs.org/docs/app/guides/environment-variables).
	loadsSettings = pattern.New(
		`(^|[\s;&|/'"(])(vite|vitest|next|nuxt|nuxi|astro|gatsby|parcel|react-scripts|react-router|remix|svelte-kit` +
			`|vue-cli-service|expo)($|[\s;&|)'"@])`,
	)
	// loadsOne matches scripts with an option or a tool that reads the file.
	loadsOne = pattern.New(`--env-file\b|\b(dotenv|dotenvx|env-cmd)\b`)
)

// settingsFiles returns the files with variables that a script of a package reads and git ignores: what
// a person writes there is in the outputs, and the default reads leave ignored files out.
func (s *surveyor) settingsFiles(m npmPackage, name, script string) (out []string) {
	var files []string
	switch {
	case loadsSettings.MatchString(script):
		mode := "production"
		if has(name, namesCheck) {
			mode = "test"
		}
		files = []string{".env", ".env.local", ".env." + mode, ".env." + mode + ".local"}
	case loadsOne.MatchString(script) || m.Dependencies["dotenv"] != "" || m.DevDependencies["dotenv"] != "":
		files = []string{".env"}
	}
	for _, f := range files {
		if at := path.Join(m.dir, f); !s.files[at] && s.isIgnored(at, false) {
			out = append(out, f)
		}
	}
	return out
}

// isIgnored tells whether the ignore files around a path name it; the last row decides
// (https://git-scm.com/docs/gitignore).
func (s *surveyor) isIgnored(at string, isDir bool) (ignored bool) {
	dirs := []string{path.Dir(at)}
	for dirs[0] != "." {
		dirs = append([]string{path.Dir(dirs[0])}, dirs...)
	}
	for _, d := range dirs {
		text, _ := s.read(path.Join(d, ".gitignore"))
		for line := range strings.Lines(text) {
			row, negated := strings.CutPrefix(strings.TrimSpace(line), "!")
			row, onlyDirs := strings.CutSuffix(row, "/")
			if row == "" || onlyDirs && !isDir {
				continue
			}
			pattern := path.Join(d, row)
			if !strings.Contains(row, "/") {
				pattern = path.Join(d, "**", row)
			}
			if ok, _ := doublestar.Match(pattern, at); ok {
				ignored = !negated
			}
		}
	}
	return ignored
}
