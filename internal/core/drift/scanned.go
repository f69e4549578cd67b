package drift

import (
	"path"
	"regexp"
	"slices"
)

// scan is a command that opens files although its result does not depend on them.
type scan struct {
	command, unless *regexp.Regexp
	files           *regexp.Regexp // their base names
	probed          *regexp.Regexp // what a probe of the task reads, which then tells what these files would
	why             string
}

var scans = []scan{{
	command: regexp.MustCompile(`\bgo (build|install|run)\b`), unless: regexp.MustCompile(`\bgo (test|vet|generate)\b`),
	files: regexp.MustCompile(`_test\.go$`),
	why:   "the compiler looks which package a test file belongs to, and leaves it out",
}, {
	command: regexp.MustCompile(
		`\b(npm|yarn|pnpm) (run|test|start)\b`,
	), unless: regexp.MustCompile(`\b(npm|yarn|pnpm) (install|ci|pack)\b`),
	files: regexp.MustCompile(`^(package\.json|pnpm-workspace\.yaml)$`),
	why:   "it looks which packages the workspace has; of a package that the script uses, needs says so",
}, {
	command: regexp.MustCompile(`\byarn (run|test|start)\b`), unless: regexp.MustCompile(`\byarn (install|pack)\b`),
	files:  regexp.MustCompile(`^(yarn\.lock|install-state\.gz|\.pnp\.(cjs|loader\.mjs|data\.json))$`),
	probed: regexp.MustCompile(`^(\.yarn-state\.yml|\.pnp\.(cjs|data\.json))$`),
	why:    "it looks where packages are; a probe says which",
}}

// scanned says why a file that a command opens cannot change its result, given the files that the
// probes of its task read; nothing if it can.
func scanned(command, file string, probed []string) string {
	for _, s := range scans {
		if s.command.MatchString(command) && !s.unless.MatchString(command) && s.files.MatchString(path.Base(file)) &&
			(s.probed == nil || slices.ContainsFunc(probed, func(p string) bool { return s.probed.MatchString(path.Base(p)) })) {
			return s.why
		}
	}
	return ""
}
