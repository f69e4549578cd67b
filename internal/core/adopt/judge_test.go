package adopt

import (
	"strings"
	"testing"
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
			task.judge()
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
		if task.judge(); (task.Sort == NotAdopted) != watches {
			t.Errorf("%s: %d, %q", script, task.Sort, task.Why)
		}
	}
}

func TestScriptsThatChangeSomethingElsewhereAreLeftOut(t *testing.T) {
	for script, left := range map[string]bool{
		"kubectl apply -f x.yaml": true, "helm upgrade --install x .": true, "terraform apply": true, "aws s3 cp x s3://y": true,
		"kubectl version": false, "helm lint .": false, "terraform fmt -check": false, "cat aws.txt": false,
	} {
		task := &Task{Name: "build", Script: script}
		if task.judge(); (task.Sort == NotAdopted) != left {
			t.Errorf("%s: %d, %q", script, task.Sort, task.Why)
		}
	}
}

func TestTheMainTargetOfAMakefileIsTheBuild(t *testing.T) {
	s, p := propose(t, repo(map[string]string{
		"src/Makefile":  ".PHONY: all default clean\nall: $(OBJECTS)\ndefault: all\nclean:\n\trm -f *.o\n",
		"docs/Makefile": ".PHONY: all build check\nall: build check\nbuild:\n\tsh build.sh\ncheck: build\n\tsh check.sh\n",
	}), Choices{})
	if build := s.of("src").Task("build"); build == nil || build.Run != "make --silent all" || build.Sort != Reusable || build.Writes != nil {
		t.Errorf("all in src: %+v", build)
	}
	if build := s.of("docs").Task("build"); build == nil || build.Run != "make --silent build" {
		t.Errorf("build in docs: %+v", build)
	}
	left := strings.Join(p.NotAdopted, "\n")
	for _, says := range []string{"all@docs: it only runs other targets, which are tasks of their own", "default@src: it only runs", "clean@src: its name"} {
		if !strings.Contains(left, says) {
			t.Errorf("what is left out does not say %q:\n%s", says, left)
		}
	}
}
