package jsimport

import (
	"strings"
	"testing"
)

func specs(text string) (out []string) {
	for _, x := range Read(text) {
		out = append(out, x.Spec)
	}
	return out
}

func TestImports(t *testing.T) {
	for text, want := range map[string]string{
		`import a, { b as c } from "x"; import "y"`:                               "x y",
		`export { z } from './z'; export * as n from "n"`:                         "./z n",
		`const q = require("q"), w = import("w");`:                                "q w",
		"// import \"no\"\n/* import 'no' */ const s = 'import';":                 "",
		"const t = `import \"no\" ${require('yes')}`":                             "yes",
		`const r = /import "no"/.test(x) / 2; import "s"`:                         "s",
		`import type { T } from "types"; let v: Array<string> = []`:               "types",
		`import x = require("old")`:                                               "old",
		`<script lang="ts">import A from "./A.svelte"</script><p>import "no"</p>`: "./A.svelte",
		`import("a" + b); foo.from("no")`:                                         "a",
	} {
		if got := strings.Join(specs(text), " "); got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

func TestPlacesAreThoseOfTheText(t *testing.T) {
	for text, want := range map[string]Import{
		"// é\n  import x from 'tides'":                                            {"tides", 2, 17},
		"<p>über</p>\n<script lang=\"ts\">\n  import y from \"fares\";\n</script>": {"fares", 3, 17},
	} {
		got := Read(text)
		if len(got) != 1 || got[0] != want {
			t.Errorf("%q: %v, want %v", text, got, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("import a from 'b'")
	f.Add("<script>import('x')</script>")
	f.Fuzz(func(t *testing.T, text string) {
		for _, x := range Read(text) {
			if x.Line < 1 || x.Column < 1 || x.Line > strings.Count(text, "\n")+1 {
				t.Errorf("%q: %v", text, x)
			}
		}
	})
}
