package survey

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/imports"
	"grayloft.example/grayloft/internal/core/pattern"
)

// Variable is an environment variable that scripts read.
type Variable struct {
	Name    string
	Files   []string // that read it, or the manifest scripts that do
	Tasks   []*Task
	Use     Use
	Why     string
	Values  []string // values that a script compares it with
	Default string   // the value that a script gives it if it is unset
}

// Use says how a variable is declared.
type Use string

// The values of Use.
const (
	AsEnv     Use = "env"     // passed on, part of the key
	AsSecret  Use = "secret"  // passed on, not part of the key, masked
	AsSetting Use = "setting" // a typed setting provides its value
	AsNothing Use = "nothing" // not passed on
)

// Uses lists them in the order in which they are offered.
var Uses = []Use{AsEnv, AsSecret, AsSetting, AsNothing}

var (
	inShell  = pattern.New(`\$\{?([A-Z][A-Z0-9_]{1,})\b(?::?-([^}]*)\})?`)
	setShell = pattern.New(
		`(?m)(?:^|[;&(]|\bexport|\blocal|\bfor|\bread(?:\s+-r)?)\s*([A-Z][A-Z0-9_]+)(?:=|\s+in\b|\s*$)`,
	)
	inScript    = pattern.New(`(?:process|import\.meta)\.env(?:\.([A-Z][A-Z0-9_]+)\b|\[['"]([A-Z][A-Z0-9_]+)['"]\])`)
	inGo        = pattern.New(`os\.(?:Getenv|LookupEnv)\("([A-Z][A-Z0-9_]+)"\)`)
	inPython    = pattern.New(`os\.(?:getenv\(|environ(?:\.get\(|\[))\s*['"]([A-Z][A-Z0-9_]+)['"]`)
	caseShell   = pattern.New(`(?s)\bcase\s+"?\$\{?([A-Z][A-Z0-9_]+)[^\n]*?\bin\b(.*?)\besac\b`)
	caseRow     = pattern.New(`(?m)^\s*([A-Za-z0-9_|" -]+)\)`)
	looksSecret = pattern.New(`TOKEN|SECRET|PASSWORD|PASSWD|CREDENTIAL|PRIVATE|API_?KEY|_KEY$`)
)

var (
	// componentEndings are those of files with scripts in them.
	componentEndings = []string{".astro", ".svelte", ".vue"}
	// ofBundlers are the variables that a bundler sets itself (https://vite.dev/guide/env-and-mode).
	ofBundlers = set("BASE_URL", "DEV", "MODE", "PROD", "SSR")
)

// usual are variables that every process has, or that shells set.
var usual = set(
	"PATH",
	"HOME",
	"PWD",
	"OLDPWD",
	"USER",
	"LOGNAME",
	"SHELL",
	"TMPDIR",
	"TERM",
	"LANG",
	"LC_ALL",
	"TZ",
	"IFS",
	"PS1",
	"RANDOM",
	"SECONDS",
	"LINENO",
	"BASH_SOURCE",
	"BASH",
	"BASH_VERSION",
	"HOSTNAME",
	"UID",
	"EUID",
	"PPID",
	"OPTARG",
	"OPTIND",
	"REPLY",
	"FUNCNAME",
	"PIPESTATUS",
	"MAKE",
	"MAKEFLAGS",
	"CURDIR",
	"SOURCE_DATE_EPOCH",
	"NO_COLOR",
	"EDITOR",
	"DISPLAY",
	"XDG_CONFIG_HOME",
	"XDG_CACHE_HOME",
	"MAKEFILE_LIST",
)

// variables finds what the scripts of declared tasks read: in the scripts
// themselves and in the sources of their projects.
func (s *surveyor) variables() {
	byName := map[string]*Variable{}
	for _, p := range s.survey.Projects {
		inSources := s.sourceVariables(p)
		for _, t := range p.Tasks {
			if t.Sort == NotAdopted {
				continue
			}
			found := map[string]string{}
			for name, file := range inSources {
				if runsSources(t) {
					found[name] = file
				}
			}
			for _, name := range shellVariables(t.Script) {
				found[name] = t.From
			}
			for _, name := range sortedKeys(found) {
				v := byName[name]
				if v == nil {
					v = &Variable{Name: name}
					byName[name] = v
				}
				v.Tasks = append(v.Tasks, t)
				if !slices.Contains(v.Files, found[name]) {
					v.Files = append(v.Files, found[name])
				}
				v.learn(t.Script)
			}
		}
	}
	for _, name := range sortedKeys(byName) {
		v := byName[name]
		v.propose()
		s.survey.Variables = append(s.survey.Variables, v)
	}
}

// runsSources tells whether a task executes the project's sources, as opposed
// to compiling or inspecting them.
func runsSources(t *Task) bool {
	switch t.Script {
	case "go build", "go vet", "cargo build":
		return false
	}
	return true
}

func shellVariables(script string) []string {
	own := map[string]bool{}
	for _, m := range setShell.FindAllStringSubmatch(script, -1) {
		own[m[1]] = true
	}
	var out []string
	for _, m := range inShell.FindAllStringSubmatch(script, -1) {
		// A variable whose default comes from its own earlier value is still
		// read.
		given := regexp.MustCompile(`\b` + m[1] + `=["']?\$\{` + m[1]).MatchString(script)
		if !usual[m[1]] && (!own[m[1]] || given) && !slices.Contains(out, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}

// sourceVariables returns the variables that a project's sources read, each
// with one file that does.
func (s *surveyor) sourceVariables(p *Project) map[string]string {
	out := map[string]string{}
	for _, f := range s.owned()[p.Dir] {
		if imports.IsForeign(f) || strings.HasSuffix(f, "_test.go") {
			continue
		}
		var re *pattern.Pattern
		switch {
		case imports.IsScript(f), slices.Contains(componentEndings, path.Ext(f)):
			re = inScript
		case path.Ext(f) == ".go":
			re = inGo
		case path.Ext(f) == ".py":
			re = inPython
		default:
			continue
		}
		text, _ := s.read(f)
		for _, m := range re.FindAllStringSubmatch(text, -1) {
			name := strings.Join(m[1:], "")
			isBuiltIn := strings.HasPrefix(m[0], "import") && ofBundlers[name]
			if !usual[name] && !isBuiltIn && out[name] == "" {
				out[name] = f
			}
		}
	}
	return out
}

// learn takes from a script's text the values that a variable is compared with,
// and its default.
func (v *Variable) learn(script string) {
	for _, m := range inShell.FindAllStringSubmatch(script, -1) {
		if m[1] == v.Name && m[2] != "" && v.Default == "" && !strings.ContainsAny(m[2], "$`\"'") {
			v.Default = m[2]
		}
	}
	for _, m := range caseShell.FindAllStringSubmatch(script, -1) {
		if m[1] != v.Name {
			continue
		}
		for _, row := range caseRow.FindAllStringSubmatch(m[2], -1) {
			for val := range strings.SplitSeq(row[1], "|") {
				if val = strings.Trim(val, "\" "); val != "" && val != "*" && !strings.ContainsAny(val, "* ") &&
					!slices.Contains(v.Values, val) {
					v.Values = append(v.Values, val)
				}
			}
		}
	}
}

// propose decides how the variable is declared.
func (v *Variable) propose() {
	switch {
	case strings.HasPrefix(v.Name, "GRAYLOFT_"):
		v.Use, v.Why = AsNothing, "it is for the client, and not passed on to tasks"
	case looksSecret.MatchString(v.Name):
		v.Use, v.Why = AsSecret, "its name suggests a secret: passed on, not part of the key, masked in logs"
	case len(v.Values) > 1 && v.Default != "" && slices.Contains(v.Values, v.Default):
		v.Use, v.Why = AsSetting, "it takes one of "+strings.Join(
			v.Values,
			", ",
		)+": a setting provides the value, and --set changes it"
	case v.Name == "CI":
		v.Use, v.Why = AsNothing, "as part of the key it would keep CI and laptops from sharing; tools then behave as on a laptop"
	case v.Name == "NODE_ENV" || v.Name == "DEBUG":
		v.Use, v.Why = AsEnv, "it changes what is made, so it is part of the key"
	default:
		v.Use, v.Why = AsEnv, "a task sees only the variables that it declares; part of the key, because it may change the result"
	}
}
