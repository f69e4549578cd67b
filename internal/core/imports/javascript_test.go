package imports

import (
	"strings"
	"testing"
)

func specs(text string) (out []string) {
	for _, x := range Read("a.svelte", text).Imports {
		out = append(out, x.Spec)
	}
	return out
}

func TestScripts(t *testing.T) {
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
		"// é\n  import x from 'tides'":                                            {Spec: "tides", Line: 2, Column: 17},
		"<p>über</p>\n<script lang=\"ts\">\n  import y from \"fares\";\n</script>": {Spec: "fares", Line: 3, Column: 17},
	} {
		got := Read("a.svelte", text).Imports
		if len(got) != 1 || got[0] != want {
			t.Errorf("%q: %v, want %v", text, got, want)
		}
	}
}
