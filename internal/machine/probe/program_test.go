package probe

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/decl"
)

func TestAListStartsItsFirstWord(t *testing.T) {
	if words, err := started(decl.Command{Argv: []string{"go", "version"}}); err != nil || len(words) != 1 || words[0] != "go" {
		t.Errorf("a list: %q, %v", words, err)
	}
	if _, err := started(decl.Command{Argv: []string{"/usr/bin/env", "go"}}); err == nil {
		t.Error("a list that starts env")
	}
}

// What chooses among installed versions stays the same while its answer changes.
func TestAProgramThatLetsSomethingElseDecideIsTold(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	write := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(at(name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at(name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	write("bin/chooser", "many programs in one")
	must(os.Symlink("chooser", at("bin/ebb")))
	must(os.Symlink("chooser", at("bin/flow")))
	must(os.MkdirAll(at("links"), 0o755))
	must(os.Symlink(at("bin/ebb"), at("links/ebb")))
	write("hard/one", "a file")
	must(os.Link(at("hard/one"), at("hard/two")))
	write("hard/fog", "another")
	must(os.Link(at("hard/fog"), at("hard/fog-2.1")))
	write("bin/tool3.11", "a program")
	must(os.Symlink("tool3.11", at("bin/tool3")))
	must(os.Symlink("tool3", at("bin/tool")))
	must(os.Symlink("tool3", at("bin/any-gnu-tool")))
	write("lib/quill-12", "a program")
	must(os.Symlink(at("lib/quill-12"), at("bin/pen")))
	write("shims/ebb", "#!/usr/bin/env bash\nset -e\nexec chooser exec ebb \"$@\"\n")
	write("bin/script", "#!/bin/sh -e\ncat version\n")
	write("bin/node-script", "#!/usr/bin/env node\nexec (1)\n")
	write("bin/long", "#!/bin/sh\n"+strings.Repeat("# a line of a program of its own\n", 40)+"exec ebb\n")
	for name, why := range map[string]string{
		"bin/ebb": "leads to the same program as flow", "links/ebb": "leads to the same program as flow", "hard/one": "the same file as two",
		"shims/ebb": "executes another program", "bin/absent": "no such file",
		"hard/fog": "", "bin/tool": "", "bin/pen": "", "bin/script": "", "bin/node-script": "", "bin/long": "",
	} {
		_, err := identify(name, at(name))
		if why == "" && err != nil || why != "" && (err == nil || !strings.Contains(err.Error(), why)) {
			t.Errorf("%s: %v, want %q", name, err, why)
		}
	}
}
