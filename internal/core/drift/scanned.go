package drift

import (
	"path"
	"regexp"
)

// scan is a command that opens files although its result does not depend on them.
type scan struct {
	command, unless *regexp.Regexp
	files           *regexp.Regexp // their base names
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
	files: regexp.MustCompile(`^package\.json$`),
	why:   "it looks which packages the workspace has; of a package that the script uses, needs says so",
}}

// scanned says why a file that a command opens cannot change its result; nothing if it
// can.
func scanned(command, file string) string {
	for _, s := range scans {
		if s.command.MatchString(command) && !s.unless.MatchString(command) && s.files.MatchString(path.Base(file)) {
			return s.why
		}
	}
	return ""
}
