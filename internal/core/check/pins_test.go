package check_test

import (
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/check"
)

var fair = map[string]string{
	"grayloft.toml": "schema = 1\n[repo]\nprojects = [\"a\", \"b\"]\n",
	"a/loft.toml":   "", "b/loft.toml": "",
	"a/go.mod":       "module skerry.example/a\n\nrequire pier.example/fog v1.2.0\n\nrequire pier.example/wind v1.0.0\n",
	"b/go.mod":       "module skerry.example/b\n\nrequire (\n\tpier.example/fog v1.3.0 // held\n\tpier.example/wind v1.1.0\n)\n",
	"a/package.json": "{\"dependencies\": {\"drawn\": \"^2.0.0\", \"calm\": \"~1.0.0\", \"near\": \"file:../near\"}}\n",
	"b/package.json": "{\n\t\"devDependencies\": {\"drawn\": \"4.1.0\", \"calm\": \"1.0.0\"}\r\n}\n",
	"pins.toml": "[go]\n\"pier.example/fog\" = \"1.3.0\"\n[npm]\n" +
		"drawn = { version = \"3.0.0\", below = \"4\", why = \"the pages are not ready\" }\n",
}

var versionRules = []check.Rule{check.VersionInManifest, check.VersionDiffers, check.VersionHeld}

func TestVersionsFollowThePins(t *testing.T) {
	want := []string{
		"a/go.mod:3 error version-in-manifest pier.example/fog",
		"a/go.mod:5 warning version-differs pier.example/wind",
		"a/package.json:1 error version-in-manifest drawn",
		"b/package.json:2 error version-held drawn",
		"b/package.json:2 error version-in-manifest drawn",
	}
	got := described(inspect(t, fair, versionRules...))
	slices.Sort(got)
	if !slices.Equal(got, want) {
		t.Errorf("found\n  %s\nwant\n  %s", strings.Join(got, "\n  "), strings.Join(want, "\n  "))
	}
	found := inspect(t, fair, versionRules...)
	for _, f := range found {
		if f.Rule == check.VersionHeld && !strings.Contains(f.Message, "the pages are not ready") {
			t.Errorf("the hold: %s", f.Message)
		}
	}
	for name, want := range map[string]string{
		"a/go.mod":       strings.Replace(fair["a/go.mod"], "fog v1.2.0", "fog v1.3.0", 1),
		"a/package.json": strings.Replace(fair["a/package.json"], "^2.0.0", "^3.0.0", 1),
		"b/package.json": strings.Replace(fair["b/package.json"], "4.1.0", "3.0.0", 1),
	} {
		if got, _, err := check.Apply(name, fair[name], found); err != nil || got != want {
			t.Errorf("%s: %v\n%q, want\n%q", name, err, got, want)
		}
	}
}

func TestPinsThatAreWrongAreExplained(t *testing.T) {
	for text, says := range map[string]string{
		"[ruby]\n":                                    "[ruby] is not known",
		"[go]\nx = 3\n":                               "write it like",
		"[go]\nx = \"soon\"\n":                        "is not a version",
		"[npm]\nx = { below = \"4\" }\n":              "needs a why",
		"[npm]\nx = { below = \"4\", until = \"5\" }": "write it like",
		"[go": "pins.toml",
		"":    "",
	} {
		files := maps.Clone(fair)
		files["pins.toml"] = text
		fsys := fstest.MapFS{}
		for name, text := range files {
			fsys[name] = &fstest.MapFile{Data: []byte(text)}
		}
		err := check.PinsProblem(&check.Repo{FS: fsys})
		if says == "" && err != nil || says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
