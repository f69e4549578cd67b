package survey_test

import (
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

// What only programs of the system make, and scripts that start no others, depends on no tool. Whatever
// else starts something leaves the question open.
func TestScriptsOfSystemProgramsNeedNoProbes(t *testing.T) {
	for _, c := range []struct {
		what, rules string
		plain       bool
	}{
		{"text", "build:\n\t@sort a.csv | sed 's/,/ /' > out.txt\n", true},
		{"a script", "build:\n\t-sh fold.sh a.csv > out.txt\n", true},
		{"a script that runs another", "build:\n\t./deep.sh > out.txt\n", true},
		{"a rule and a pattern", "build: out.txt b.txt\nout.txt: a.csv\n\tcp $< $@\n%.txt: %.csv\n\tcut -d, -f1 $< > $@\n", true},
		{"a compiler", "build:\n\tcc -o out.txt a.c\n", false},
		{"a compiler in a script", "build:\n\tsh cc.sh > out.txt\n", false},
		{"an unknown script", "build:\n\tsh gone.sh > out.txt\n", false},
		{"a text for a shell", "build:\n\tsh -c 'cc a.c' > out.txt\n", false},
		{"a variable", "build:\n\t$(TOOL) a.csv > out.txt\n", false},
		{"a default", "TOOL ?= sort\nbuild:\n\t$(TOOL) a.csv > out.txt\n", false},
		{"a file of the system", "build:\n\tcat /etc/hostname > out.txt\n", false},
		{"a file of the person", "build:\n\tcat ~/.level > out.txt\n", false},
		{"nowhere", "build:\n\tsort a.csv 2> /dev/null > out.txt\n", true},
		{"a rule of make's own", "build: out.txt main.o\nout.txt: a.csv\n\tcp a.csv out.txt\n", false},
		{"what finds files", "build:\n\tfind . -exec cc {} \\; > out.txt\n", false},
		{"what starts another", "build:\n\txargs cc < a.csv > out.txt\n", false},
	} {
		s, p := propose(t, repo(map[string]string{
			"quay/Makefile": ".PHONY: build\n" + c.rules, "quay/a.csv": "", "quay/b.csv": "", "quay/fold.sh": "# folds\nfold -w 10 \"$1\"\n",
			"quay/deep.sh": "#!/bin/sh\nset -e\nif test -f a.csv; then sh fold.sh a.csv; fi\n", "quay/cc.sh": "cc -E a.c\n",
		}), Choices{})
		if build := of(s, "quay").Task("build"); (build.Probes != nil) != c.plain || build.Sort != Reusable {
			t.Errorf("%s: probes %q, %d (%s)", c.what, build.Probes, build.Sort, build.Why)
		}
		if text := p.Files[0].New + p.Files[len(p.Files)-1].New; strings.Contains(text, "\nprobes = []\n") != c.plain {
			t.Errorf("%s: it is written as\n%s", c.what, text)
		}
	}
}
