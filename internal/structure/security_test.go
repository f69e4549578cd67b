package structure

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Every attack is explained in docs/security.md, and every explanation has its
// attack.
func TestAttacksAndTheirExplanationsMatch(t *testing.T) {
	page, err := os.ReadFile("../../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	explained, found := map[string]bool{}, map[string]bool{}
	for _, m := range regexp.MustCompile("`(Test\\w+)`").FindAllSubmatch(page, -1) {
		explained[string(m[1])] = true
	}
	files, _ := filepath.Glob("../../attack/*_test.go")
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(t `).FindAllSubmatch(text, -1) {
			if name := string(m[1]); filepath.Base(file) != "random_test.go" {
				found[name] = true
			}
		}
		if regexp.MustCompile(`\bt\.Skip`).Match(text) && filepath.Base(file) != "attack_test.go" {
			t.Errorf("%s skips an attack without a reason from the list", file)
		}
	}
	elsewhere := testsBelow(t, "../../internal")
	for name := range explained {
		if !found[name] && !elsewhere[name] {
			t.Errorf("docs/security.md names %s, which does not exist", name)
		}
	}
	for name := range found {
		if !explained[name] {
			t.Errorf("docs/security.md does not name %s", name)
		}
	}
	if len(found) < 30 {
		t.Errorf("only %d attacks", len(found))
	}
}

// testsBelow returns the tests in the packages below a directory.
func testsBelow(t *testing.T, dir string) map[string]bool {
	t.Helper()
	found := map[string]bool{}
	err := filepath.WalkDir(dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, "_test.go") {
			return err
		}
		text, err := os.ReadFile(file)
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(t `).FindAllSubmatch(text, -1) {
			found[string(m[1])] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return found
}
