package manifest

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
	"grayloft.example/grayloft/internal/core/shell"
)

// npmLocked is what lock files say about installed packages.
type npmLocked struct {
	peers    map[string]bool     // that others expect beside them
	programs map[string][]string // the names of the programs that they bring
	none     map[string]bool     // they bring no program

	peersUnknown bool // some lock file does not say what is expected beside a package
}

// mayBring tells whether a package may bring programs whose names are not known.
func (l npmLocked) mayBring(name string) bool { return !l.none[name] && len(l.programs[name]) == 0 }

// readLocks reads all lock files: those of npm
// (https://docs.npmjs.com/cli/configuring-npm/package-lock-json), and of those of others what they
// say about programs.
func readLocks(r *Repo) npmLocked {
	l := npmLocked{peers: map[string]bool{}, programs: map[string][]string{}, none: map[string]bool{}}
	for _, f := range r.named("package-lock.json") {
		l.readNPM(r.fresh(f))
	}
	for _, f := range r.named("pnpm-lock.yaml") {
		l.readPNPM(r.fresh(f))
	}
	for _, f := range r.named("yarn.lock") {
		if text := r.fresh(f); strings.Contains(text, "\n__metadata:") {
			l.readYarn(text)
		} else { // of an earlier version
			l.peersUnknown = true
		}
	}
	return l
}

func (l npmLocked) readNPM(text string) {
	var lock struct {
		Packages map[string]struct {
			Peers    map[string]string `json:"peerDependencies"`
			Programs map[string]string `json:"bin"`
		} `json:"packages"`
	}
	if json.Unmarshal([]byte(text), &lock) != nil {
		return
	}
	for at, p := range lock.Packages {
		for name := range p.Peers {
			l.peers[name] = true
		}
		_, name, _ := strings.Cut(at, "node_modules/")
		l.programs[name] = slices.AppendSeq(l.programs[name], maps.Keys(p.Programs))
		l.none[name] = len(l.programs[name]) == 0
	}
}

var (
	pnpmPackage = pattern.New(`^  '?/?((?:@[\w.~-]+/)?[\w.~-]+)[@/]\d.*:\s*$`)
	yarnPackage = pattern.New(`^"?((?:@[^/"]+/)?[^@"\s]+)@.*:\s*$`)
)

// readPNPM reads which packages bring programs, whose names are not there, and what is expected beside
// packages.
func (l npmLocked) readPNPM(text string) {
	name, bring, inPeers := "", map[string]bool{}, false
	for line := range strings.Lines(text) {
		m := pnpmPackage.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
		switch indent := len(line) - len(strings.TrimLeft(line, " ")); {
		case m != nil:
			name, inPeers = m[1], false
			bring[name] = bring[name] || len(l.programs[name]) > 0
		case indent <= 4:
			inPeers = strings.TrimSpace(line) == "peerDependencies:"
			bring[name] = bring[name] || name != "" && strings.TrimSpace(line) == "hasBin: true"
		case inPeers:
			l.peers[nameOf(line)] = true
		}
	}
	delete(bring, "")
	for name, is := range bring {
		l.none[name] = !is
	}
}

// nameOf returns the key of a line of YAML.
func nameOf(line string) string {
	key, _, _ := strings.Cut(strings.TrimSpace(line), ": ")
	return strings.Trim(key, `"'`)
}

// readYarn reads the names of the programs that packages bring, and what is expected beside packages.
func (l npmLocked) readYarn(text string) {
	name, list := "", ""
	for line := range strings.Lines(text) {
		trimmed := strings.TrimSpace(line)
		switch indent := len(line) - len(strings.TrimLeft(line, " ")); {
		case trimmed == "":
			list = ""
		case indent == 0:
			name, list = "", ""
			if m := yarnPackage.FindStringSubmatch(trimmed); m != nil {
				name = m[1]
				l.none[name] = len(l.programs[name]) == 0
			}
		case indent == 2:
			list = trimmed
		case name == "":
		case list == "peerDependencies:":
			l.peers[nameOf(line)] = true
		case list == "bin:":
			l.programs[name] = append(l.programs[name], nameOf(line))
			l.none[name] = false
		}
	}
}

// runsUnknown tells whether scripts of a package start a program of which it is not known what
// brings it.
func (s *npmSurvey) runsUnknown(p npmPackage) bool {
	for _, script := range p.scripts {
		words, err := shell.Programs(script)
		if err != nil || slices.ContainsFunc(words, func(w string) bool { return !s.isKnown(p, w) }) {
			return true
		}
	}
	return false
}

// isKnown tells whether a program comes with the system or is that of a declared package.
func (s *npmSurvey) isKnown(p npmPackage, program string) bool {
	if strings.Contains(program, "/") || slices.Contains(systemPrograms, program) {
		return true
	}
	return slices.ContainsFunc(p.entries, func(e Entry) bool {
		return slices.Contains(append(wordsFor(e.Name), s.locked.programs[e.Name]...), program)
	})
}

// systemPrograms are those that scripts start and no npm package is needed for.
var systemPrograms = strings.Fields(`awk bash cat chmod cmp cp curl cut date diff docker find git go grep gzip head make mkdir mktemp mv
	node npm npx pnpm python python3 rm rmdir sed sh sleep sort tail tar tee touch tr uniq unzip wc wget which yarn zip`)
