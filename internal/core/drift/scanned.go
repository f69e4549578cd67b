package drift

import (
	"path"
	"slices"

	"grayloft.example/grayloft/internal/core/pattern"
)

// scan is a command that opens files although its result does not depend on them.
type scan struct {
	command, unless *pattern.Pattern
	files           *pattern.Pattern // their base names
	probed          *pattern.Pattern // what a probe of the task reads, which then tells what these files would
	why             string
}

var scans = []scan{{
	command: pattern.New(`\bgo (build|install|run)\b`), unless: pattern.New(`\bgo (test|vet|generate)\b`),
	files: pattern.New(`_test\.go$`),
	why:   "the compiler looks which package a test file belongs to, and leaves it out",
}, {
	command: pattern.New(
		`\b(npm|yarn|pnpm) (run|test|start)\b`,
	), unless: pattern.New(`\b(npm|yarn|pnpm) (install|ci|pack)\b`),
	files: pattern.New(`^(package\.json|pnpm-workspace\.yaml)$`),
	why:   "it looks which packages the workspace has; of a package that the script uses, needs says so",
}, {
	command: pattern.New(`\byarn (run|test|start)\b`), unless: pattern.New(`\byarn (install|pack)\b`),
	files:  pattern.New(`^(yarn\.lock|install-state\.gz|\.pnp\.(cjs|loader\.mjs|data\.json))$`),
	probed: pattern.New(`^(\.yarn-state\.yml|\.pnp\.(cjs|data\.json))$`),
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
