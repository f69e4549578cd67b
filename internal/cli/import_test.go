package cli_test

import (
	"os"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/trial"
)

// house is a repository with kinds that others import.
var house = map[string]string{
	"grayloft.toml": "schema = 1\n[repo]\nname = \"house\"\ninclude = [\"kinds/*.toml\"]\n",
	"kinds/go.toml": `[probe.shell]
run = "echo posix"
reads = []

[setting.loud]
type = "bool"
default = false

[pick.all-libraries]
where = "kind:library"

[kind.library]
offers = ["*.txt"]
template = "templates/library"

[kind.library.task.build]
run = "echo built loud=%{setting.loud} $GRAYLOFT_SETTING_LOUD > out"
reads = ["*.txt"]
writes = ["out"]
probes = ["shell"]
`,
	"templates/library/loft.toml":  "[project]\nkind = \"house/library\"\n",
	"templates/library/readme.txt": "%{name}\n",
	"notes.txt":                    "not imported\n",
}

// quayside uses them.
var quayside = map[string]string{
	"grayloft.toml":    "schema = 1\n\n[repo]\nname = \"quay\"\nprojects = [\"libs/*\"]\n\n[kind.ours.task.build]\nrun = \"kind: ours\"\n\n[kind.plain]\n# the last comment\n",
	"libs/x/loft.toml": "[project]\nname = \"x\"\nkind = \"plain\"\n",
	"libs/x/a.txt":     "a\n",
}

func TestImport(t *testing.T) {
	t.Parallel()
	h, r := trial.New(t, house), trial.New(t, quayside)
	url := "file://" + h.Dir
	if a := r.Grayloft("import", "list"); a.Code != 0 || a.Out != "Nothing is imported.\n" {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	before := r.Read("grayloft.toml")
	a := r.Grayloft("import", "add", "house", url, "--rev", "main")
	if a.Code != 0 || !strings.Contains(a.Err, "house is at main (") || !strings.Contains(a.Err, "with 3 files") ||
		!strings.Contains(a.Err, "Kinds: house/library") {
		t.Fatalf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if after := r.Read("grayloft.toml"); !strings.HasPrefix(after, before+"\n[import.house]\nurl    = \""+url+"\"\n") {
		t.Errorf("the declaration is\n%s", after)
	}
	if r.Has("build/imports/house/notes.txt") || !r.Has("build/imports/house/templates/library/readme.txt") {
		t.Error("it took other files than those that are named")
	}

	// Names begin with that of the import, in what its files say of each other, too; a
	// kind of this repository builds on one of it.
	r.Write("libs/x/loft.toml", "[project]\nname = \"x\"\nkind = [\"house/library\", \"plain\"]\n")
	if rep := r.Run("build", "--set", "house/loud=true"); !rep.OK || r.Read("libs/x/out") != "built loud=true true\n" {
		t.Errorf("%v: %s", rep.Totals, r.Read("libs/x/out"))
	}
	if a := r.Grayloft("tasks", "--pick", "pick:house/all-libraries"); !strings.Contains(a.Out, "build@x") {
		t.Errorf("%s%s", a.Out, a.Err)
	}
	if a := r.Grayloft("new", "house/library", "libs/y"); a.Code != 0 || r.Read("libs/y/readme.txt") != "libs/y\n" {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	if a := r.Grayloft("check", "unused"); strings.Contains(a.Out, "house/") {
		t.Errorf("%s", a.Out)
	}

	// An update shows first which tasks it changes.
	if a := r.Grayloft("import", "update"); a.Code != 0 || !strings.Contains(a.Out, "house is as main has it") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	h.Write("kinds/go.toml", strings.Replace(house["kinds/go.toml"], "echo built", "echo made", 1))
	h.Commit("say made")
	text := r.Read("grayloft.toml")
	a = r.Grayloft("import", "update", "--dry-run")
	for _, says := range []string{
		"2 tasks would change:", "build@libs/y and 1 more: run\n    - echo built loud=%{setting.house/loud}", "    + echo made loud=%{setting.house/loud}",
	} {
		if a.Code != 0 || !strings.Contains(a.Out, says) {
			t.Errorf("exit %d, it does not say %q:\n%s%s", a.Code, says, a.Out, a.Err)
		}
	}
	if r.Read("grayloft.toml") != text {
		t.Error("a dry run changed the declaration")
	}
	if a := r.Grayloft("import", "update", "house"); a.Code != 0 || !strings.Contains(a.Out, "2 tasks changed:") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if rep := r.Run("build@x"); !rep.OK || r.Read("libs/x/out") != "made loud=false false\n" {
		t.Errorf("%v: %s", rep.Totals, r.Read("libs/x/out"))
	}

	// It can only be removed once nothing uses it, and then nothing is left of it.
	if a := r.Grayloft("import", "remove", "house"); a.Code != 2 || !strings.Contains(a.Err, "house is still used") ||
		!strings.Contains(a.Err, `house/library`) || !r.Has("build/imports/house/kinds/go.toml") {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	r.Remove("libs/y/loft.toml")
	r.Write("libs/x/loft.toml", "[project]\nname = \"x\"\n")
	if a := r.Grayloft("import", "remove", "house"); a.Code != 0 || r.Read("grayloft.toml") != before ||
		r.Has("build/imports/house") {
		t.Errorf("exit %d, %s\n%s", a.Code, a.Err, r.Read("grayloft.toml"))
	}
}

// Files that were edited are an error that says so, and an update does not lose the
// edits.
func TestAnImportThatWasEditedIsAnError(t *testing.T) {
	t.Parallel()
	h, r := trial.New(t, house), trial.New(t, quayside)
	r.Grayloft("import", "add", "house", "file://"+h.Dir)
	r.Append("build/imports/house/kinds/go.toml", "# ours\n")
	for _, args := range [][]string{{"projects"}, {"run", "build"}} {
		a := r.Grayloft(args...)
		if a.Code != 2 || !strings.Contains(a.Err, "files in build/imports/house were edited: they do not have this digest") ||
			!strings.Contains(a.Err, "grayloft import update house --overwrite writes them again") {
			t.Errorf("%q: exit %d, %s", args, a.Code, a.Err)
		}
	}
	if a := r.Grayloft("import", "list"); a.Code != 0 || !strings.Contains(a.Out, "its files were edited here") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := r.Grayloft("import", "update"); a.Code != 2 || !strings.Contains(a.Err, "an update would lose that") {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	if a := r.Grayloft("import", "remove", "house"); a.Code != 2 {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	if a := r.Grayloft("import", "update", "--overwrite"); a.Code != 0 ||
		strings.Contains(r.Read("build/imports/house/kinds/go.toml"), "ours") {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	if a := r.Grayloft("projects"); a.Code != 0 {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
}

func TestMistakesAboutImportsAreExplained(t *testing.T) {
	t.Parallel()
	h, r := trial.New(t, house), trial.New(t, quayside)
	bad := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n", "kinds/a.toml": "[kind.a.task.build]\nrun = \"true\"\nprobes = [\"absent\"]\n", "kinds/b.toml": "[repo]\nname = \"b\"\n",
	})
	if err := os.Symlink("/etc/hosts", bad.Path("kinds/c.toml")); err != nil {
		t.Fatal(err)
	}
	bad.Write("kinds/large.toml", strings.Repeat("# large\n", 200_000))
	bad.Commit("a link, and a large file")
	before := r.Read("grayloft.toml")
	url := "file://" + h.Dir
	for _, c := range []struct{ args, says string }{
		{"add house", "add needs a name and the address"},
		{"add", "add needs"},
		{"sub", `"sub" is not a command of import`},
		{"add a/b " + url, "is not a name for an import"},
		{"add house " + url + " --rev nowhere", "nowhere"},
		{"add house file:///nowhere/at/all", "import house"},
		{"add house --rev=-x " + url, "neither the address"},
		{"add house " + url + " --files absent/*", "nothing matches absent/*"},
		{"add house " + url + " --files ../x", "is not a pattern from the root"},
		{"add house file://" + bad.Dir, "name them with --files"},
		{"add house file://" + bad.Dir + " --files kinds/b.toml", `unknown key "repo"`},
		{"add house file://" + bad.Dir + " --files kinds/c.toml", "kinds/c.toml is not a regular file there"},
		{"add house file://" + bad.Dir + " --files kinds/large.toml", "at most 1048576 are taken"},
		{"add house ext::sh%20-c%20true", "not allowed"},
		{"update house", "nothing is imported"},
		{"update --rev v3", "are for one import"},
		{"remove house", "nothing is imported"},
	} {
		a := r.Grayloft(append([]string{"import"}, strings.Fields(c.args)...)...)
		if a.Code != 2 || !strings.Contains(a.Err, c.says) {
			t.Errorf("%s: exit %d, %s", c.args, a.Code, a.Err)
		}
	}
	r.Write(".gitignore", "build/\n")
	if a := r.Grayloft("import", "add", "house", url); a.Code != 2 || !strings.Contains(a.Err, "git ignores build/imports/house") {
		t.Errorf("exit %d, %s", a.Code, a.Err)
	}
	if r.Read("grayloft.toml") != before || r.Has("build/imports") {
		t.Error("a mistake left something")
	}
}
