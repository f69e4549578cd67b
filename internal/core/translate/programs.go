package translate

import (
	"encoding/json"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// canonical returns the steps of a command in the form in which commands are compared.
func (t *translator) canonical(s step, words []string) ([]step, error) {
	for path.Base(words[0]) == "env" && len(words) > 1 {
		words = words[1:]
		for len(words) > 1 && strings.Contains(words[0], "=") {
			name, value, _ := strings.Cut(words[0], "=")
			s.vars[name] = value
			words = words[1:]
		}
	}
	read := map[string]func(step, []string) ([]step, error){
		"npm": t.npm, "yarn": t.yarn, "pnpm": t.pnpm, "node": t.node, "make": t.make, "gmake": t.make,
		"go": t.golang, "cargo": t.cargo, "sh": t.shell, "bash": t.shell, "dash": t.shell,
	}[path.Base(words[0])]
	if read == nil || strings.Contains(words[0], "/") && !path.IsAbs(words[0]) {
		return t.plain(s, words)
	}
	steps, err := read(s, words[1:])
	if steps == nil && err == nil {
		return t.plain(s, words)
	}
	return steps, err
}

// plain is a command that is compared word by word. A file of the repository is named
// from the root.
func (t *translator) plain(s step, words []string) ([]step, error) {
	s.verb = "run"
	for _, w := range words {
		at := path.Join(s.dir, w)
		if _, isFile := slices.BinarySearch(t.Files, at); isFile && inside(at) == nil && !strings.HasPrefix(w, "-") {
			w = "/" + at
		}
		s.words = append(s.words, w)
	}
	return []step{s}, nil
}

// shell is a script that a shell runs: the same as the script itself.
func (t *translator) shell(s step, words []string) ([]step, error) {
	switch {
	case len(words) >= 2 && strings.HasPrefix(words[0], "-") && strings.HasSuffix(words[0], "c"):
		steps, err := t.parse(words[1], s.dir)
		if err != nil {
			return nil, nil //nolint:nilerr // compared as it is
		}
		return steps, nil
	case len(words) > 0 && !strings.HasPrefix(words[0], "-"):
		return t.plain(s, words)
	}
	return nil, nil
}

// options takes the options of a program from its words. Those in values take one,
// after a space or =; those in flags are left out. It stops at --; not ok if there is
// another one.
func options(words []string, values, flags string) (given map[string][]string, rest, args []string, ok bool) {
	given = map[string][]string{}
	for i := 0; i < len(words); i++ {
		w := words[i]
		name, value, hasValue := strings.Cut(w, "=")
		switch {
		case w == "--":
			return given, rest, words[i+1:], true
		case !strings.HasPrefix(w, "-"):
			rest = append(rest, w)
		case hasWord(flags, w):
			given[w] = append(given[w], "")
		case hasWord(values, name) && hasValue:
			given[name] = append(given[name], value)
		case hasWord(values, w) && i+1 < len(words):
			i++
			given[w] = append(given[w], words[i])
		default:
			return nil, nil, nil, false
		}
	}
	return given, rest, nil, true
}

func hasWord(list, word string) bool { return slices.Contains(strings.Fields(list), word) }

// last returns the last value of one of some options.
func last(given map[string][]string, names ...string) (value string) {
	for _, n := range names {
		if list := given[n]; len(list) > 0 {
			value = list[len(list)-1]
		}
	}
	return value
}

// npm reads npm run, and its short forms: https://docs.npmjs.com/cli/commands/npm-run-script.
func (t *translator) npm(s step, words []string) ([]step, error) {
	given, rest, args, ok := options(words, "--prefix -C -w --workspace",
		"-s --silent -q --quiet --if-present -ws --workspaces --foreground-scripts --loglevel=silent")
	if !ok || len(rest) == 0 {
		return nil, nil
	}
	switch rest[0] {
	case "run", "run-script", "rum", "urn":
		rest = rest[1:]
	case "test", "start", "stop", "restart":
	case "t", "tst":
		rest[0] = "test"
	default:
		return nil, nil
	}
	if len(rest) == 0 {
		return nil, nil
	}
	s.dir = path.Join(s.dir, last(given, "--prefix", "-C"))
	s.args = append(slices.Clone(rest[1:]), args...)
	return t.scripts(
		s,
		rest[0],
		slices.Concat(given["-w"], given["--workspace"]),
		given["-ws"] != nil || given["--workspaces"] != nil,
	)
}

// yarn reads yarn run and yarn SCRIPT: https://yarnpkg.com/cli/run.
func (t *translator) yarn(s step, words []string) ([]step, error) {
	given, rest, args, ok := leading(words, "--cwd", "-s --silent")
	if !ok || len(rest) == 0 {
		return nil, nil
	}
	s.dir = path.Join(s.dir, last(given, "--cwd"))
	var of []string
	all := false
	switch {
	case rest[0] == "workspace" && len(rest) > 2:
		of, rest = rest[1:2], rest[2:]
	case rest[0] == "workspaces" && len(rest) > 2:
		all, rest = true, rest[1:]
		if rest[0] == "foreach" {
			_, rest, _, ok = leading(rest[1:], "-j --jobs",
				"-A --all -p --parallel -t --topological --topological-dev -v --verbose -i --interlaced")
		}
	}
	if ok {
		rest, ok = behindRun(given, rest, "", "-s --silent")
	}
	if !ok || strings.HasPrefix(rest[0], "-") {
		return nil, nil
	}
	s.args = append(slices.Clone(rest[1:]), args...)
	return t.scripts(s, rest[0], of, all)
}

// pnpm reads pnpm run and pnpm SCRIPT: https://pnpm.io/cli/run, https://pnpm.io/filtering.
func (t *translator) pnpm(s step, words []string) ([]step, error) {
	const values = "-C --dir --filter -F --workspace-concurrency --reporter"
	const flags = "-s --silent -r --recursive --if-present --parallel --stream --aggregate-output --sequential --bail --no-bail"
	given, rest, args, ok := leading(words, values, flags)
	if ok {
		rest, ok = behindRun(given, rest, values, flags)
	}
	if !ok {
		return nil, nil
	}
	of := slices.Concat(given["--filter"], given["-F"])
	if slices.ContainsFunc(of, func(w string) bool { return strings.ContainsAny(w, "![{^") || strings.Contains(w, "...") }) {
		return nil, nil // by dependencies or by changes
	}
	s.dir = path.Join(s.dir, last(given, "-C", "--dir"))
	s.args = append(slices.Clone(rest[1:]), args...)
	return t.scripts(s, rest[0], of, given["-r"] != nil || given["--recursive"] != nil)
}

// behindRun takes the word run, and options that follow it, from the front of some words. Not ok if
// nothing is left.
func behindRun(given map[string][]string, words []string, values, flags string) (rest []string, ok bool) {
	if len(words) < 2 || words[0] != "run" {
		return words, len(words) > 0
	}
	more, rest, _, ok := leading(words[1:], values, flags)
	for name, list := range more {
		given[name] = append(given[name], list...)
	}
	return rest, ok && len(rest) > 0
}

// leading takes the options before the first word that is none; what follows it belongs
// to the script.
func leading(words []string, values, flags string) (given map[string][]string, rest, args []string, ok bool) {
	n := 0
	for n < len(words) && strings.HasPrefix(words[n], "-") {
		if hasWord(values, words[n]) {
			n++
		}
		n++
	}
	n = min(n, len(words))
	given, _, _, ok = options(words[:n], values, flags)
	rest = words[n:]
	if i := slices.Index(rest, "--"); i > 0 {
		rest, args = rest[:i], rest[i+1:]
	}
	return given, rest, args, ok
}

// node reads node --run: https://nodejs.org/api/cli.html#--run.
func (t *translator) node(s step, words []string) ([]step, error) {
	given, rest, args, ok := options(words, "--run", "")
	if name := last(given, "--run"); ok && name != "" && len(rest) == 0 {
		s.args = args
		return t.scripts(s, name, nil, false)
	}
	return nil, nil
}

// scripts is a script of a package, of some that are named, or of all that have it. It
// is nothing if there is none: the word then has another meaning for the program.
func (t *translator) scripts(s step, name string, of []string, all bool) ([]step, error) {
	if err := inside(s.dir); err != nil {
		return nil, err
	}
	var out []step
	for _, p := range t.manifests() {
		isWanted := all && of == nil && p.dir != s.dir
		for _, w := range of {
			isWanted = isWanted || p.is(w, s.dir)
		}
		if of == nil && !all {
			isWanted = p.dir == t.packageDir(s.dir)
		}
		if _, has := p.commands[name]; isWanted && has {
			one := s
			one.dir, one.verb, one.words = p.dir, "script", []string{name}
			out = append(out, one)
		}
	}
	return out, nil
}

// scripts are the scripts of a package.
type scripts struct {
	dir, name string
	commands  map[string]string
}

// is tells whether a package is meant by its name, its directory from another one, or a pattern for one
// of these.
func (p scripts) is(text, from string) bool {
	for _, at := range [][2]string{{text, p.name}, {path.Join(from, text), p.dir}} {
		if ok, _ := doublestar.Match(at[0], at[1]); ok || at[0] == at[1] {
			return true
		}
	}
	return false
}

func (t *translator) manifests() []scripts {
	if t.read {
		return t.packages
	}
	t.read = true
	for _, f := range t.Files {
		var m struct {
			Name    string            `json:"name"`
			Scripts map[string]string `json:"scripts"`
		}
		if path.Base(f) == "package.json" && json.Unmarshal([]byte(t.Read(f)), &m) == nil {
			t.packages = append(t.packages, scripts{path.Dir(f), m.Name, m.Scripts})
		}
	}
	return t.packages
}

// packageDir returns the directory of the package around a directory.
func (t *translator) packageDir(dir string) string {
	for ; dir != "."; dir = path.Dir(dir) {
		if _, ok := slices.BinarySearch(t.Files, path.Join(dir, "package.json")); ok {
			return dir
		}
	}
	return dir
}

// make reads make with its targets and variables:
// https://pubs.opengroup.org/onlinepubs/9799919799/utilities/make.html. Each target is
// a step.
func (t *translator) make(s step, words []string) ([]step, error) {
	given, rest, _, ok := options(
		words,
		"-C --directory -f --file -j",
		"-s --silent --quiet -k --keep-going -B --always-make --no-print-directory",
	)
	if !ok {
		given, rest, _, ok = options(
			withoutJobs(words),
			"-C --directory -f --file",
			"-s --silent --quiet -k --keep-going -B --no-print-directory",
		)
	}
	if !ok {
		return nil, nil
	}
	s.dir = path.Join(s.dir, last(given, "-C", "--directory"))
	if err := inside(s.dir); err != nil {
		return nil, err
	}
	var targets []string
	for _, w := range rest {
		if name, value, isVar := strings.Cut(w, "="); isVar {
			s.vars[strings.TrimRight(name, ":?+")] = value
		} else {
			targets = append(targets, w)
		}
	}
	file := last(given, "-f", "--file")
	if len(targets) == 0 {
		target, ok := t.target(s.dir, file, "")
		if !ok {
			return nil, nil
		}
		targets = []string{target.Name}
	}
	var out []step
	for _, target := range targets {
		one := s
		one.verb, one.words = "make", []string{target}
		if file != "" {
			one.words = append(one.words, file)
		}
		out = append(out, one)
	}
	return out, nil
}

// withoutJobs leaves out the options that say how many jobs make runs.
func withoutJobs(words []string) []string {
	return slices.DeleteFunc(
		slices.Clone(words),
		func(w string) bool { return strings.HasPrefix(w, "-j") || strings.HasPrefix(w, "--jobs") },
	)
}

// golang reads the go command: https://pkg.go.dev/cmd/go. Packages below one directory
// of a project are those of that directory.
func (t *translator) golang(s step, words []string) ([]step, error) {
	if len(words) > 2 && words[1] == "-C" {
		s.dir, words = path.Join(s.dir, words[2]), append(words[:1:1], words[3:]...)
	}
	if len(words) == 0 || !hasWord("build test vet generate", words[0]) {
		return nil, nil
	}
	s.verb, s.words = "go", words[:1:1]
	var packages, flags []string
	for _, w := range words[1:] {
		if strings.HasPrefix(w, "-") {
			flags = append(flags, w)
		} else {
			packages = append(packages, w)
		}
	}
	if len(packages) == 1 && strings.HasPrefix(packages[0], "./") && strings.HasSuffix(packages[0], "/...") {
		below := path.Join(s.dir, strings.TrimSuffix(packages[0], "/..."))
		if p := t.Graph.Containing(below); p != nil && p.Dir == below {
			s.dir, packages = below, []string{"./..."}
		}
	}
	slices.Sort(flags)
	s.words = append(append(s.words, flags...), packages...)
	return []step{s}, inside(s.dir)
}

// cargo reads cargo: https://doc.rust-lang.org/cargo/commands/. A package is its
// directory.
func (t *translator) cargo(s step, words []string) ([]step, error) {
	var rest []string
	for i := 0; i < len(words); i++ {
		value := ""
		if i+1 < len(words) {
			value = words[i+1]
		}
		switch words[i] {
		case "-p", "--package":
			dir, ok := t.crate(value)
			if !ok {
				return nil, nil
			}
			s.dir = dir
			i++
		case "--manifest-path":
			s.dir = path.Join(s.dir, path.Dir(value))
			i++
		case "-q", "--quiet":
		default:
			rest = append(rest, words[i])
		}
	}
	if len(rest) == 0 {
		return nil, nil
	}
	s.verb, s.words = "cargo", rest
	return []step{s}, inside(s.dir)
}
