package survey_test

import (
	"slices"
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

// Files that the build constraints leave out make no task that the go command would refuse.
func TestTasksOfGoAreForFilesThatAreBuilt(t *testing.T) {
	const tagged = "//go:build trials\n\n"
	r := repo(map[string]string{
		"go.mod":            "module ferry.example\n\ngo 1.26\n",
		"tides/t.go":        "package tides\n",
		"tides/t_test.go":   tagged + "package tides\n",
		"attack/a_test.go":  "package attack\n",
		"trials/a_test.go":  tagged + "package trials\n",
		"tools/generate.go": tagged + "package main\n",
	})
	s, _ := propose(t, r, Choices{Split: map[string]bool{".": true}})
	for dir, want := range map[string][]string{
		"tides": {"build", "vet"}, "attack": {"build", "test", "vet"}, "trials": nil, "tools": nil,
	} {
		var got []string
		for _, p := range s.Projects {
			if p.Dir == dir {
				for _, task := range p.Tasks {
					got = append(got, task.Name)
				}
			}
		}
		if slices.Sort(got); !slices.Equal(got, want) {
			t.Errorf("%s has %q, want %q", dir, got, want)
		}
		if said := strings.Contains(strings.Join(s.Notes, "\n"), dir+" has no build"); said != (want == nil) {
			t.Errorf("%s: %q", dir, s.Notes)
		}
	}
}

// A tool whose version a file decides is asked again when that changes.
func TestProbesReadWhatDecidesTheVersion(t *testing.T) {
	files := map[string]string{
		"go.mod": "module ferry.example\n\ngo 1.26\n", "a.go": "package ferry\n", ".nvmrc": "24\n", ".tool-versions": "nodejs 24\n",
		"web/.nvmrc": "22\n", "web/package.json": `{"name": "web", "scripts": {"build": "node build.mjs"}}`,
	}
	_, p := propose(t, repo(files), Choices{})
	text := ""
	for _, f := range p.Files {
		text += f.New
	}
	for _, want := range []string{
		"[probe.go]\nrun   = \"go version\"\nreads = [\".tool-versions\", \"go.mod\"]",
		"[probe.node]\nrun   = \"node --version\"\nreads = [\".nvmrc\", \".tool-versions\"]",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("%s is not in\n%s", want, text)
		}
	}
}
