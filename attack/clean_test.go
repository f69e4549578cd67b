package attack

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// A registry answers with versions that would write declarations, move the cursor or name
// files: nothing of them is printed or written.
func TestVersionsOfAHostileRegistryReachNoFile(t *testing.T) {
	t.Parallel()
	evil := []string{
		"9.9.9\"\n[evil]\nx = \"1",
		"9.9.9\x1b[2J",
		"9.9.9 // indirect\n\treplace x => /",
		"../../9.9.9",
		"9.9.9\\u0000",
	}
	answers := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/@v/list") {
			fmt.Fprintf(w, "v%s\nv1.0.1\n", strings.Join(evil, "\nv"))
			return
		}
		var list []string
		for _, v := range append(evil, "1.0.1") {
			list = append(list, fmt.Sprintf("%q: {}", v))
		}
		fmt.Fprintf(w, `{"versions": {%s}}`, strings.ReplaceAll(strings.Join(list, ", "), `\x1b`, `\u001b`))
	})
	s := httptest.NewServer(answers)
	defer s.Close()
	files := empty()
	files["a/loft.toml"] = ""
	files["a/go.mod"] = "module skerry.example/a\n\nrequire pier.example/fog v1.0.0\n"
	files["a/a.go"] = "package a\n\nimport _ \"pier.example/fog\"\n"
	files["a/package.json"] = "{\"dependencies\": {\"mist\": \"1.0.0\"}}\n"
	files["a/a.js"] = "import 'mist';\n"
	files["pins.toml"] = "[npm]\ntide = \"1.0.0\"\n"
	d := newDesk(t, os.Geteuid(), files)
	d.env = append(d.env, "GOPROXY="+s.URL, "npm_config_registry="+s.URL)
	got := d.grayloft("check", "--updates", "--fix")
	for file, want := range map[string]string{
		"a/go.mod": "module skerry.example/a\n\nrequire pier.example/fog v1.0.1\n", "a/package.json": "{\"dependencies\": {\"mist\": \"1.0.1\"}}\n",
		"pins.toml": "[npm]\ntide = \"1.0.1\"\n",
	} {
		if text := d.read(file); text != want {
			t.Errorf("%s is %q after %s", file, text, got.out)
		}
	}
	if strings.ContainsAny(got.out, "\x1b\x00") || strings.Contains(got.out, "9.9.9") {
		t.Errorf("it prints %q", got.out)
	}
}

// A repository names a registry of its own, and credentials for it that are a person's
// variables: it gets none.
func TestARepositoryDoesNotLearnRegistryCredentials(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var sent []string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		sent = append(sent, fmt.Sprint(r.Header, r.URL))
		_, _ = w.Write([]byte(`{"versions": {"1.0.1": {}}}`))
	}))
	defer s.Close()
	host := strings.TrimPrefix(s.URL, "http://")
	files := empty()
	files["a/loft.toml"] = ""
	files["a/package.json"] = "{\"dependencies\": {\"mist\": \"1.0.0\"}}\n"
	files["a/a.js"] = "import 'mist';\n"
	files[".npmrc"] = "registry=" + s.URL + "/${NPM_TOKEN}/\n//" + host + "/:_authToken=${NPM_TOKEN}\n//" + host + "/:_auth=${NPM_TOKEN}\n"
	d := newDesk(t, os.Geteuid(), files)
	d.env = append(d.env, "NPM_TOKEN=wind-and-rain")
	d.write(filepath.Join(d.home, ".npmrc"), "//registry.pier.example/:_authToken=wind-and-rain\n")
	got := d.grayloft("check", "--updates")
	mu.Lock()
	defer mu.Unlock()
	if len(sent) != 1 || strings.Contains(strings.Join(sent, ""), "wind-and-rain") {
		t.Errorf("it was sent %q; %s", sent, got.out)
	}
}

// Another repository holds links out of it, and the place for its files is a link: nothing
// outside is read or written.
func TestAnImportStaysInTheRepository(t *testing.T) {
	t.Parallel()
	other := t.TempDir()
	git := func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-c", "user.name=x", "-c", "user.email=x@skerry.example"}, args...)...)
		cmd.Dir = other
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	git("init", "-q", "-b", "main")
	if err := os.MkdirAll(filepath.Join(other, "kinds"), 0o755); err != nil {
		t.Fatal(err)
	}
	kind := "[kind.lib]\ntemplate = \"../../private\"\n[kind.lib.task.t]\nrun = \"true\"\n"
	if err := os.WriteFile(filepath.Join(other, "kinds/a.toml"), []byte(kind), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc", filepath.Join(other, "kinds/etc")); err != nil {
		t.Fatal(err)
	}
	git("add", "-A")
	git("commit", "-qm", "kinds")
	files := empty()
	files["a/loft.toml"] = ""
	d := newDesk(t, os.Geteuid(), files)
	for args, says := range map[string]string{
		"kinds/*":      "is not a regular file there",
		"kinds/a.toml": "no directory",
	} {
		got := d.grayloft("import", "add", "house", "file://"+other, "--rev", "main", "--files", args)
		if got.code != 2 || !strings.Contains(got.out, says) {
			t.Errorf("%s: exit %d, %s", args, got.code, got.out)
		}
	}
	if err := os.WriteFile(filepath.Join(other, "kinds/a.toml"), []byte("[kind.lib.task.t]\nrun = \"true\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	git("commit", "-qam", "without a template")
	if err := os.Symlink(filepath.Join(d.home, "private"), filepath.Join(d.dir, "build")); err != nil {
		t.Fatal(err)
	}
	got := d.grayloft("import", "add", "house", "file://"+other, "--rev", "main", "--files", "kinds/a.toml")
	if got.code == 0 {
		t.Errorf("it wrote through a link: %s", got.out)
	}
	if _, err := os.Stat(filepath.Join(d.home, "private/imports")); err == nil {
		t.Errorf("there are files outside the repository")
	}
	d.intact()
}

// The directory of installed packages is a link, or holds links that lead elsewhere: a
// sealed task reads nothing through them.
func TestASealedTaskReadsNothingThroughItsPackages(t *testing.T) {
	t.Parallel()
	eachUser(t, func(t *testing.T, uid int) {
		for name, make := range map[string]func(d *desk){
			"the directory": func(d *desk) { symlink(t, filepath.Join(d.home, "private"), filepath.Join(d.dir, "node_modules")) },
			"a package": func(d *desk) {
				d.write(filepath.Join(d.dir, "node_modules/fog/x"), "x")
				symlink(t, filepath.Join(d.home, "private"), filepath.Join(d.dir, "node_modules/out"))
			},
			"a package in a group": func(d *desk) {
				d.write(filepath.Join(d.dir, "node_modules/@pier/x"), "x")
				symlink(t, filepath.Join(d.home, "private/out"), filepath.Join(d.dir, "node_modules/@pier/out"))
			},
		} {
			t.Run(name, func(t *testing.T) {
				files := one(
					"sealed",
					"find -L ../node_modules -name diary.txt -exec cat {} + > out.txt 2>/dev/null || true\necho done >> out.txt",
					`writes = ["out.txt"]`,
				)
				files["grayloft.toml"] = strings.Replace(
					files["grayloft.toml"],
					"reads = []",
					"reads = []\ndirs = [\"repo:node_modules\"]",
					1,
				)
				files[".gitignore"] = "node_modules\n"
				d := newDesk(t, uid, files)
				make(d)
				d.own(d.dir)
				got := d.grayloft("run", "build@a")
				if text := d.read("a/out.txt"); text != "done\n" {
					t.Errorf("it read %q: %s", text, got.out)
				}
				d.intact()
			})
		}
	})
}

func symlink(t *testing.T, to, at string) {
	t.Helper()
	if err := os.Symlink(to, at); err != nil {
		t.Fatal(err)
	}
}
