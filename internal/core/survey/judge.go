package survey

import (
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
)

// words in a task's name and what they suggest.
var (
	namesWorld = set(
		"deploy",
		"publish",
		"push",
		"upload",
		"promote",
		"rollback",
		"login",
		"logout",
		"notify",
		"announce",
		"migrate",
		"provision",
		"teardown",
		"destroy",
		"apply",
		"delete",
		"drop",
		"bump",
	)
	// namesSent say how something is built or checked, too: build-release.
	namesSent   = set("release", "ship", "seed", "tag", "version", "create")
	namesServer = set(
		"dev",
		"serve",
		"server",
		"start",
		"watch",
		"preview",
		"run",
		"up",
		"down",
		"stop",
		"restart",
		"shell",
		"console",
		"repl",
		"debug",
		"demo",
	)
	namesTidy = set(
		"clean",
		"distclean",
		"install",
		"uninstall",
		"reset",
		"update",
		"upgrade",
		"prepare",
		"postinstall",
		"preinstall",
		"bootstrap",
		"setup",
		"deps",
		"help",
		"init",
		"hooks",
	)
	namesFormat = set("fmt", "format", "tidy") // or a check of it
	namesCheck  = set(
		"test",
		"tests",
		"check",
		"checks",
		"lint",
		"vet",
		"verify",
		"typecheck",
		"types",
		"type",
		"unit",
		"integration",
		"e2e",
		"spec",
		"validate",
		"traced",
		"coverage",
		"tsc",
		"eslint",
	)
	namesMake = set(
		"build",
		"compile",
		"bundle",
		"generate",
		"gen",
		"codegen",
		"docs",
		"doc",
		"package",
		"pack",
		"dist",
		"assets",
		"css",
		"icons",
		"schema",
		"proto",
		"transpile",
		"render",
		"site",
	)
)

func set(words ...string) map[string]bool {
	out := map[string]bool{}
	for _, w := range words {
		out[w] = true
	}
	return out
}

var nameParts = pattern.New(`[^A-Za-z0-9]+`)

func parts(name string) []string {
	return nameParts.Split(strings.ReplaceAll(strings.ToLower(name), "up-to-date", "check"), -1)
}

func has(name string, words map[string]bool) bool {
	return slices.ContainsFunc(parts(name), func(w string) bool { return words[w] })
}

// patterns in a script's text which show that it does more than write files.
var signs = []struct {
	pattern *pattern.Pattern
	sort    Reusability
	why     string
}{
	{pattern.New(`\bgit\s+(push|tag|commit)\b`), NotAdopted, "it changes the repository's history or pushes it"},
	{pattern.New(`\b(npm|yarn|pnpm|cargo|twine)\s+(publish|upload)\b|\b(docker|podman)\s+push\b`), NotAdopted, "it publishes"},
	{pattern.New(`\b(ssh|scp|rsync|sftp)\s`), NotAdopted, "it reaches other machines"},
	{
		pattern.New(`\bkubectl\s+(apply|create|delete|edit|exec|patch|replace|rollout|scale|set)\b` +
			`|\bhelm\s+(install|push|rollback|uninstall|upgrade)\b|\b(terraform|tofu)\s+(apply|destroy|import)\b` +
			`|\b(aws|az|gcloud|gsutil|eksctl)\s`),
		NotAdopted,
		"it changes something elsewhere",
	},
	{
		pattern.New(`\bcurl\b[^|;&\n]*\s(-X\s*(POST|PUT|DELETE|PATCH)|-d\b|--data|-T\b|-F\b)`),
		NotAdopted,
		"it sends something over the network",
	},
	{
		pattern.New(
			`--watch(=true)?($|[\s;&|"'])|\b(tsc|rollup|webpack|sass|babel|mocha|postcss|tsup)\b[^;&|\n]*\s-[a-z]?w\b|\bwatch\s`,
		),
		NotAdopted,
		"it watches or serves, and does not end by itself",
	},
	{
		pattern.New(`\bhttp-server\b|\bserve\s|--serve\b|\bsleep\s+infinity`),
		NotAdopted,
		"it watches or serves, and does not end by itself",
	},
	{
		pattern.New(
			`(^|[;&|(]\s*|\s)(npm|yarn|pnpm)\s+(ci|install|i|add)\b|\bpip3?\s+install\b|\bapt(-get)?\s+install\b|\bgo\s+install\b`,
		),
		NeverReusable,
		"it installs something outside the project",
	},
	{
		pattern.New(`--fix\b|--write\b|\bgofmt\s+(-[a-z]+\s+)*-w\b|\bgo\s+fmt\b|\bgo\s+mod\s+tidy\b|\bsed\s+-i\b`),
		NeverReusable,
		"it rewrites sources",
	},
	{
		pattern.New(`\$\(date\b|\bdate\s+[+-]|\$RANDOM\b|\buuidgen\b|Date\.now\(\)|/dev/u?random`),
		NeverReusable,
		"it uses the current time or random values",
	},
	{
		pattern.New(`\b(curl|wget)\s|\bnpx\s+(-y|--yes)\b|\b(pnpm|yarn)\s+dlx\b|\bbunx\s`),
		NeverReusable,
		"it downloads something that may change",
	},
	{
		pattern.New(`\bgit\s+(describe|diff|log|name-rev|rev-list|show|status|symbolic-ref)\b` +
			`|\bgit\s+rev-parse\s+(--short|--verify|--abbrev-ref|HEAD)`),
		NeverReusable,
		"it depends on the commit, or on what git tracks, which no file tells",
	},
	{
		pattern.New(`\b(docker|podman|nerdctl|buildah)\s+(\w+\s+)?` +
			`(build|bud|commit|compose|create|exec|import|load|pull|rm|rmi|run|start|tag|up)\b|\bdocker-compose\s`),
		NeverReusable,
		"it works with images or containers, which are no files of the project",
	},
}

// runsOthers matches a script that runs other scripts.
var runsOthers = pattern.New(`\b(npm|yarn|pnpm)\s+(run(-script)?\s+)?([a-zA-Z][\w:.-]*)`)

// judge classifies a task by its name and by its script.
func (t *Task) judge() {
	if t.Why != "" {
		return // it was classified when it was found
	}
	makes, checks := has(t.Name, namesMake), has(t.Name, namesCheck)
	for _, s := range signs {
		if s.pattern.MatchString(t.Script) {
			t.Sort, t.Why = s.sort, s.why
			return
		}
	}
	switch {
	case has(t.Name, namesWorld), has(t.Name, namesSent) && !makes && !checks:
		t.Sort, t.Why = NotAdopted, "its name suggests that it changes something elsewhere"
	case has(t.Name, set("watch")), has(t.Name, namesServer) && !makes && !checks:
		t.Sort, t.Why = NotAdopted, "its name suggests that it serves or watches, and does not end by itself"
	case has(t.Name, set("fix")), has(t.Name, namesFormat) && !checks:
		t.Sort, t.Why = NeverReusable, "its name suggests that it rewrites sources"
	case has(t.Name, namesTidy):
		t.Sort, t.Why = NotAdopted, "its name suggests that it cleans or sets up, and writes nothing to keep"
	case checks:
		t.Sort, t.Why = Reusable, "a check: it writes nothing, and the same files give the same result"
	case makes:
		t.Sort, t.Why = Reusable, "it makes files from files"
	default:
		t.Sort, t.Why = NeverReusable, "nothing shows what it does"
	}
}

// others returns the scripts of the same manifest that a script runs.
func others(script string) []string {
	var out []string
	for _, m := range runsOthers.FindAllStringSubmatch(script, -1) {
		out = append(out, m[4])
	}
	return out
}
