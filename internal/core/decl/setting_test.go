package decl

import (
	"os/exec"
	"strings"
	"testing"
	"testing/fstest"
)

const choosable = `schema = 1
[setting.optimise]
values = ["none", "size"]
default = "none"
[setting.copies]
type = "int"
default = 1
[setting.quick-start]
type = "bool"
default = false
[setting.banner]
type = "string"
default = "calm"
[mode.small]
optimise = "size"
copies = 2
[mode.quick]
quick-start = true
copies = 3
`

func choosableRepo(t *testing.T) *Repo {
	t.Helper()
	r, ps, err := Load(fstest.MapFS{"grayloft.toml": {Data: []byte(choosable)}}, "r")
	if err != nil || len(ps) > 0 {
		t.Fatal(err, ps)
	}
	return r
}

func TestChoose(t *testing.T) {
	r := choosableRepo(t)
	for _, c := range []struct {
		modes, sets, want string // want: optimise copies quick-start, or an error
	}{
		{"", "", "none 1 false"},
		{"small", "", "size 2 false"},
		{"small quick", "", "size 3 true"},
		{"quick small", "", "size 2 true"},
		{"small", "copies=7", "size 7 false"},
		{"", "copies=+07", "none 7 false"},
		{"", "quick-start=true", "none 1 true"},
		{"", "quick-start=yes", "it takes true, false"},
		{"", "copies=1.5", "it takes a whole number"},
		{"", "optimise=speed", "it takes none, size"},
		{"", "optimise", "add a value for setting"},
		{"", "kopies=1", `did you mean "copies"?`},
		{"smal", "", `did you mean "small"?`},
	} {
		v, err := r.Choose(strings.Fields(c.modes), strings.Fields(c.sets))
		got := strings.Join([]string{v["optimise"], v["copies"], v["quick-start"]}, " ")
		if err != nil {
			got = err.Error()
		}
		if got != c.want && (err == nil || !strings.Contains(got, c.want)) {
			t.Errorf("modes %q, sets %q: %s, want %s", c.modes, c.sets, got, c.want)
		}
	}
	if v := r.Settings["quick-start"].Var(); v != "GRAYLOFT_SETTING_QUICK_START" {
		t.Error(v)
	}
}

func TestSettingsInCommands(t *testing.T) {
	r := choosableRepo(t)
	vals, err := r.Choose(nil, []string{"banner=it's; rm -rf"})
	if err != nil {
		t.Fatal(err)
	}
	shell := Command{Shell: "echo %{setting.optimise}-%{setting.copies} %{other} %{setting.optimise}"}
	if got := strings.Join(shell.Named(), " "); got != "copies optimise" {
		t.Errorf("named: %s", got)
	}
	if got, err := shell.With(r, vals); err != nil || got.Shell != "echo none-1 %{other} none" {
		t.Errorf("%q, %v", got.Shell, err)
	}
	if _, err := (Command{Shell: "echo %{setting.banner}"}).With(r, vals); err == nil || !strings.Contains(err.Error(), `"$GRAYLOFT_SETTING_BANNER"`) {
		t.Errorf("a value that a shell would take apart: %v", err)
	}
	if got, err := (Command{Argv: []string{"echo", "<%{setting.banner}>"}}).With(r, vals); err != nil || got.Argv[1] != "<it's; rm -rf>" {
		t.Errorf("a list needs no shell: %v, %v", got.Argv, err)
	}
}

func TestArgumentsReachTheCommandAsTheyAre(t *testing.T) {
	args := []string{"plain", "two words", "it's", `"q"`, "$HOME", "a\nb", "", "*", "-n"}
	for _, c := range []Command{
		{Shell: "printf '<%s>\\n'"}, {Shell: "printf '<%s>\\n' \"$@\"\n"}, {Argv: []string{"printf", "<%s>\n"}},
	} {
		words := c.WithArgs(args).Words()
		out, err := exec.Command(words[0], words[1:]...).Output()
		if want := "<" + strings.Join(args, ">\n<") + ">\n"; err != nil || string(out) != want {
			t.Errorf("%v: %q, want %q, %v", words, out, want, err)
		}
	}
	if c := (Command{Shell: "x"}); c.WithArgs(nil).Shell != "x" {
		t.Error("nothing was added, and it changed")
	}
}

// A checkout may have other ends of line than the repository: commands are the same.
func TestEndsOfLineAreTheSameInEveryCheckout(t *testing.T) {
	const text = "schema = 1\n[project]\n[task.make]\nrun = \"\"\"\necho one\necho two > out\"\"\"\nhelp = '''\nwords'''\n"
	for what, file := range map[string]string{"of Unix": text, "of Windows": strings.ReplaceAll(text, "\n", "\r\n")} {
		repo, problems, err := Load(fstest.MapFS{RootFile: {Data: []byte(file)}}, "r")
		if err != nil || len(problems) > 0 {
			t.Fatal(problems, err)
		}
		if run := repo.Projects[0].Tasks[0].Decl.Run.Shell; run != "echo one\necho two > out" {
			t.Errorf("ends of line %s: %q", what, run)
		}
	}
	_, problems, err := Load(fstest.MapFS{RootFile: {Data: []byte("\ufeff" + text)}}, "r")
	if err != nil || !strings.Contains(problems.Error(), "begins with a byte-order mark") {
		t.Errorf("a byte-order mark: %v, %v", problems, err)
	}
}
