package survey

import (
	"path"
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
	"grayloft.example/grayloft/internal/core/shell"
)

// systemPrograms are those of POSIX that work on files and text: what they make does not depend on
// which version a system has (https://pubs.opengroup.org/onlinepubs/9799919799/idx/utilities.html).
var systemPrograms = set(strings.Fields(`awk basename cat chmod cmp comm cp cut diff dirname expr fold grep head join ln ls mkdir mv nl od
	paste printf rm rmdir sed sort split tail tee touch tr tsort uniq wc`)...)

var (
	ofMake    = pattern.New(`\$[@<^*?+|]|\$\([@<^*?+][DF]?\)`)
	outer     = pattern.New(`(^|[\s="'<>(:])(/\w|~/)|\$\{?HOME\b`) // paths outside of the repository
	runsShell = pattern.New(`\b(?:ba|da)?sh[ \t]+(?:-[a-z]+[ \t]+)*["']?([\w./@+-]+)`)
)

// mostScripts is how deep scripts that run each other are followed.
const mostScripts = 4

// isPlain tells whether a script, which runs in a directory, starts only programs of the system, and
// scripts of the repository of which that is true, too. It is false of what cannot be told.
func (s *surveyor) isPlain(dir, text string, depth int) bool {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = strings.TrimLeft(line, "@-+ \t") // what make takes for itself
	}
	text = strings.ReplaceAll(ofMake.ReplaceAllString(strings.Join(lines, "\n"), "x"), "$$", "$")
	words, err := shell.Programs(text)
	if err != nil || depth > mostScripts || outer.MatchString(strings.ReplaceAll(text, "/dev/null", "")) {
		return false
	}
	for _, word := range words {
		switch {
		case systemPrograms[word]:
		case word == "sh" || word == "bash" || word == "dash":
			for _, m := range runsShell.FindAllStringSubmatch(text, -1) {
				if !s.isPlainScript(path.Join(dir, m[1]), dir, depth) {
					return false
				}
			}
			if !runsShell.MatchString(text) {
				return false
			}
		case !strings.Contains(word, "/") || !s.isPlainScript(path.Join(dir, word), dir, depth):
			return false
		}
	}
	return true
}

// isPlainScript is [surveyor.isPlain] of a file.
func (s *surveyor) isPlainScript(file, dir string, depth int) bool {
	if kind, text := s.shellScript(file); kind != "" && s.files[file] {
		return s.isPlain(dir, text, depth+1)
	}
	return false
}
