package survey_test

import (
	"slices"
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

func TestTasksAreClassifiedByTheirNames(t *testing.T) {
	for _, c := range []struct {
		names string
		sort  Reusability
		why   string
	}{
		{"build build-release build:prod docs release-check test:version create-docs schema-up-to-date", Reusable, ""},
		{"test check-format fmt-check lint-all e2e", Reusable, "a check"},
		{"format fmt lint-fix tidy", NeverReusable, "it rewrites sources"},
		{"release version docker-push deploy build-and-publish test-deploy apply delete-cluster create-user", NotAdopted, "changes something elsewhere"},
		{"serve dev start watch test:watch build-watch watch:css", NotAdopted, "does not end by itself"},
		{"clean install setup help test-install", NotAdopted, "cleans or sets up"},
		{"frobnicate all", NeverReusable, "nothing shows what it does"},
	} {
		for name := range strings.FieldsSeq(c.names) {
			task := &Task{Name: name}
			Judge(task)
			if task.Sort != c.sort || !strings.Contains(task.Why, c.why) {
				t.Errorf("%s: %d, %q; want %d, %q", name, task.Sort, task.Why, c.sort, c.why)
			}
		}
	}
}

func TestScriptsThatWatchAreLeftOut(t *testing.T) {
	for script, watches := range map[string]bool{
		"tsc -b -w": true, "tsc --watch": true, "rollup -cw": true, "runner --watch && true": true, "runner --watch=true": true,
		"tsc -b": false, "runner --watch=false": false, "runner --no-watch": false, "sass a.scss && other -w": false, "gofmt -w": false,
	} {
		task := &Task{Name: "build", Script: script}
		if Judge(task); (task.Sort == NotAdopted) != watches {
			t.Errorf("%s: %d, %q", script, task.Sort, task.Why)
		}
	}
}

func TestScriptsWhoseResultIsNotInFilesAreNeverReused(t *testing.T) {
	for script, never := range map[string]bool{
		"go build -ldflags \"-X main.v=$(git describe --tags)\" .": true, "gen && git diff --exit-code": true, "git rev-parse --short HEAD > v": true,
		"docker build -t quay .": true, "docker buildx build .": true, "podman run --rm quay make": true, "docker-compose up -d": true,
		"npx --yes fold src": true, "pnpm dlx fold": true,
		"cd $(git rev-parse --show-toplevel) && make": false, "git ls-files | xargs lint": false, "npx fold src": false, "cat docker/build.txt": false,
	} {
		task := &Task{Name: "build", Script: script}
		if Judge(task); (task.Sort == NeverReusable) != never {
			t.Errorf("%s: %d, %q", script, task.Sort, task.Why)
		}
	}
	s, _ := propose(t, repo(map[string]string{
		"Makefile": "VERSION := $(shell git describe --always)\nFLAGS = -X main.version=$(VERSION)\nOUT = bin/quay\n.PHONY: build docs\n" +
			"build:\n\tgo build -buildvcs=false -ldflags \"$(FLAGS)\" -o $(OUT) .\ndocs:\n\tsh docs.sh -o $(OUT).txt\n.PHONY: dist package\n" +
			"dist:\n\tgo build -o out/quay .\npackage:\n\tgo build -trimpath -buildvcs=false -o pack/quay .\n", "docs.sh": "",
	}), Choices{})
	if build := of(s, ".").Task("build"); build.Sort != NeverReusable || !strings.Contains(build.Why, "the commit") {
		t.Errorf("by a variable: %+v", build)
	}
	if dist := of(s, ".").Task("dist"); dist.Sort != NeverReusable || !strings.Contains(dist.Why, "add -buildvcs=false") {
		t.Errorf("a program with the commit in it: %+v", dist)
	}
	if pack := of(s, ".").Task("package"); pack.Sort != Reusable || len(pack.Writes) != 1 {
		t.Errorf("a program without it: %+v", pack)
	}
	if docs := of(s, ".").Task("docs"); docs.Sort != Reusable || !slices.Equal(docs.Writes, []string{"bin/quay.txt"}) {
		t.Errorf("an output by a variable: %+v", docs)
	}
}

// What a target depends on runs with it, however deep it is.
func TestATargetIsJudgedByAllThatItRuns(t *testing.T) {
	for _, c := range []struct {
		rules string
		never bool
	}{
		{"build: a.txt\n\ttrue\na.txt: b.txt\n\tcp b.txt a.txt\nb.txt: a.csv\n\tdocker run quay > b.txt\n", true},
		{"build: parts\n\ttrue\n.PHONY: parts\nparts: image\nimage:\n\tdocker build .\n", true},
		{"build: a.txt\n%.txt: %.csv\n\tcurl -o $@ https://pier.example/$<\n", true},
		{"build: a.csv\n\ttrue > a.txt\n%.txt: %.csv\n\tcurl -o $@ https://pier.example/$<\n", false},
		{"build: a.txt\na.txt: a.csv b.txt\n\tcp a.csv a.txt\nb.txt: a.txt\n\ttouch b.txt\n", false},
	} {
		s, _ := propose(t, repo(map[string]string{"quay/Makefile": ".PHONY: build\n" + c.rules, "quay/a.csv": ""}), Choices{})
		if build := of(s, "quay").Task("build"); (build.Sort == NeverReusable) != c.never {
			t.Errorf("%s: %d, %s", c.rules, build.Sort, build.Why)
		}
	}
}

func TestScriptsThatChangeSomethingElsewhereAreLeftOut(t *testing.T) {
	for script, left := range map[string]bool{
		"kubectl apply -f x.yaml": true, "helm upgrade --install x .": true, "terraform apply": true, "aws s3 cp x s3://y": true,
		"kubectl version": false, "helm lint .": false, "terraform fmt -check": false, "cat aws.txt": false,
	} {
		task := &Task{Name: "build", Script: script}
		if Judge(task); (task.Sort == NotAdopted) != left {
			t.Errorf("%s: %d, %q", script, task.Sort, task.Why)
		}
	}
}

func TestTheMainTargetOfAMakefileIsTheBuild(t *testing.T) {
	s, p := propose(t, repo(map[string]string{
		"src/Makefile":  ".PHONY: all default clean\nall: $(OBJECTS)\ndefault: all\nclean:\n\trm -f *.o\n",
		"docs/Makefile": ".PHONY: all build check\nall: build check\nbuild:\n\tsh build.sh\ncheck: build\n\tsh check.sh\n",
	}), Choices{})
	if build := of(s, "src").Task("build"); build == nil || build.Run != "make --silent all" || build.Sort != Reusable || build.Writes != nil {
		t.Errorf("all in src: %+v", build)
	}
	if build := of(s, "docs").Task("build"); build == nil || build.Run != "make --silent build" {
		t.Errorf("build in docs: %+v", build)
	}
	left := strings.Join(p.NotAdopted, "\n")
	for _, says := range []string{"all@docs: it only runs other targets, which are tasks of their own", "default@src: it only runs", "clean@src: its name"} {
		if !strings.Contains(left, says) {
			t.Errorf("what is left out does not say %q:\n%s", says, left)
		}
	}
}
