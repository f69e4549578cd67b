package cli_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/installed"
)

// listed is what npm lists of a package.
type listed struct {
	Version      string
	Dependencies map[string]listed
}

func (l listed) all(into map[string]bool) {
	for name, d := range l.Dependencies {
		if d.Version != "" {
			into[name+" "+d.Version] = true
		}
		d.all(into)
	}
}

// The packages of the console, which a real npm installed: its record says what npm itself lists.
func TestTheRecordOfNpmSaysWhatNpmLists(t *testing.T) {
	t.Parallel()
	web, err := filepath.Abs("../../web")
	if err != nil {
		t.Fatal(err)
	}
	record, _ := installed.Find("node_modules/.package-lock.json")
	state, err := record.Read(func(name string) ([]byte, error) { return os.ReadFile(filepath.Join(web, name)) })
	if err != nil {
		t.Fatalf("make internal/service/console/dist/index.html installs them: %v", err)
	}
	var got []string
	for line := range strings.Lines(state.Part(".", "", nil)) {
		if i := strings.LastIndex(line, "node_modules/"); i >= 0 {
			line = line[i+len("node_modules/"):]
		}
		if !strings.HasPrefix(line, "contents ") {
			got = append(got, strings.TrimSpace(line))
		}
	}
	cmd := exec.Command("npm", "ls", "--all", "--json")
	cmd.Dir = web
	text, _ := cmd.Output() // it fails where an optional package is not as asked for
	var l listed
	if err := json.Unmarshal(text, &l); err != nil {
		t.Fatalf("%v: %.200s", err, text)
	}
	set := map[string]bool{}
	l.all(set)
	if len(set) < 100 {
		t.Fatalf("npm lists %d packages", len(set))
	}
	for _, line := range got {
		if !set[line] {
			t.Errorf("npm does not list %q", line)
		}
	}
	for line := range set {
		if !slices.Contains(got, line) {
			t.Errorf("the record does not say %q", line)
		}
	}
}
