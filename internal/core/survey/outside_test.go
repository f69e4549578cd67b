package survey_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	. "grayloft.example/grayloft/internal/core/survey"
)

// What a task uses of the files around its project is read, whatever kind of script names it.
func TestFilesAroundAProjectThatItsTasksNameAreRead(t *testing.T) {
	s, p := propose(t, repo(map[string]string{
		"web/package.json": `{"name": "web", "scripts": {"build": "node ../tools/gen.mjs --out gen", "lint": "sh ../tools/lint.sh src",
			"check": "cp ../made/by/nobody . && node c.js", "bundle": "cd .. && node bundle.js",
			"compile": "node c.js && cp -r dist/a ../data/", "render": "node r.js --out ../shared", "gen": "cd src && node ../g.js", "docs": "../node_modules/.bin/docs"}}`,
		"web/src/a.ts": "import { tide } from '../../shared/tide.ts'; // ... and 1..2\nread('../../data')\nimport x from '../b.ts'\n",
		"web/b.ts":     "", "data/x.csv": "", "data/y.csv": "", "shared/tide.ts": "import './moon.ts'\n", "shared/moon.ts": "", "shared/sun.ts": "",
		"tools/gen.mjs": "import { h } from './helper.mjs'\nread('rules.json')\n", "tools/helper.mjs": "", "tools/rules.json": "{}",
		"tools/lint.sh": "#!/bin/sh\n. \"$(dirname \"$0\")/common.sh\"\ncat ../shared/sun.ts\n", "tools/common.sh": "", "tools/unused.sh": "",
		"fares/Makefile": ".PHONY: test\ninclude ../shared.mk\ntest:\n\tsh ../chart/draw.sh\n", "shared.mk": "",
		"fares/scripts/check.sh": "#!/bin/sh\ncd \"$(dirname \"$0\")/..\"\ntest -s rates.csv\n", "fares/rates.csv": "",
		"chart/package.json": `{"name": "chart", "scripts": {"test": "node t.js"}}`, "chart/draw.sh": "",
	}), Choices{})
	all := "repo:data/** repo:shared/moon.ts repo:shared/tide.ts"
	for address, want := range map[string]string{
		"build@web":   all + " repo:tools/gen.mjs repo:tools/helper.mjs repo:tools/rules.json",
		"lint@web":    "repo:data/** repo:shared/moon.ts repo:shared/sun.ts repo:shared/tide.ts repo:tools/common.sh repo:tools/lint.sh",
		"docs@web":    all,
		"test@fares":  "repo:chart/draw.sh repo:shared.mk",
		"check@fares": "repo:chart/draw.sh repo:shared.mk",
		"test@chart":  "",
	} {
		name, dir, _ := strings.Cut(address, "@")
		if got := strings.Join(of(s, dir).Task(name).Reads, " "); got != want {
			t.Errorf("%s reads %q\nwant %q", address, got, want)
		}
	}
	if got := needs(of(s, "fares")); !slices.Equal(got, []string{"chart"}) {
		t.Errorf("fares needs %q", got)
	}
	never := map[string]string{}
	for _, line := range p.Never {
		if address, why, _ := strings.Cut(line, ": "); strings.HasSuffix(address, "@web") {
			never[address] = why
		}
	}
	if check := of(s, "fares").Task("check"); check.Sort != Reusable {
		t.Errorf("a script that goes to its project's directory: %+v", check)
	}
	want := map[string]string{
		"check@web":   "it names ../made/by/nobody, outside its project, and nothing shows what is there",
		"bundle@web":  "it works in .., or writes there, outside its project",
		"compile@web": "it works in ../data, or writes there, outside its project", "render@web": "it works in ../shared, or writes there, outside its project",
	}
	if !maps.Equal(never, want) {
		t.Errorf("never reused: %q\nwant %q", never, want)
	}
}

func TestAScriptThatLeadsToManyFilesIsReadWithItsDirectory(t *testing.T) {
	files := map[string]string{"web/package.json": `{"name": "web", "scripts": {"lint": "sh ../tools/0.sh"}}`}
	for i := range 60 {
		files[fmt.Sprintf("tools/%d.sh", i)] = fmt.Sprintf("sh ./%d.sh\n", i+1)
	}
	s, _ := propose(t, repo(files), Choices{})
	if got := of(s, "web").Task("lint").Reads; !slices.Equal(got, []string{"repo:tools/**"}) {
		t.Errorf("%q", got)
	}
}

// A configuration for all packages imports others: files beside it, and packages of the repository.
func TestAConfigurationAroundIsFollowed(t *testing.T) {
	s, _ := propose(t, repo(map[string]string{
		"package.json":         `{"name": "skerry", "workspaces": ["packages/*"]}`,
		"lint.config.js":       "import rules from './tools/rules/index.js';\nimport shared from '@skerry/rules/strict';\nexport default [rules, shared];\n",
		"tools/rules/index.js": "export { default } from './deep';\n", "tools/rules/deep.js": "export default [];\n", "tools/rules/odd.js": "",
		"tsconfig.base.json": "{\n  // for all\n  \"extends\": [\"@skerry/types/base.json\", \"./tools/ts.json\"],\n" +
			"  \"compilerOptions\": {\"paths\": {\"@skerry/other\": [\"packages/other/main.ts\"]}}\n}\n",
		"tools/ts.json":               "{}",
		"packages/quay/package.json":  `{"name": "quay", "scripts": {"lint": "lint .", "build": "fold"}}`,
		"packages/rules/package.json": `{"name": "@skerry/rules", "scripts": {"lint": "lint ."}}`, "packages/rules/strict.js": "",
		"packages/types/package.json": `{"name": "@skerry/types"}`, "packages/types/base.json": "{}",
		"packages/other/package.json": `{"name": "@skerry/other"}`, "packages/other/main.ts": "",
	}), Choices{})
	if got := needs(of(s, "packages/quay")); !slices.Equal(got, []string{"packages/rules", "packages/types"}) {
		t.Errorf("needs: %q", got)
	}
	reads := of(s, "packages/quay").Task("lint").Reads
	for f, want := range map[string]bool{
		"lint.config.js": true, "tools/rules/index.js": true, "tools/rules/deep.js": true, "tools/ts.json": true, "tools/rules/odd.js": false,
		"packages/other/main.ts": false,
	} {
		if slices.Contains(reads, "repo:"+f) != want {
			t.Errorf("%s: %v; %q", f, !want, reads)
		}
	}
}
