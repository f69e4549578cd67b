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

func TestTheLastWordIsFound(t *testing.T) {
	texts := []string{
		"", "i", "m", "im", "import", "importimport", "mport", "imimport", "import im", "p", "ip import x", "require", "rerequire", "q", "req",
		"from", "ffrom", "fro", "from f", strings.Repeat("import ", 40) + "impor", strings.Repeat("p", 99),
	}
	for _, text := range texts {
		for word, rare := range map[string]int{"import": 2, "require": 2, "from": 0} {
			if got, want := lastOf(text, word, rare), strings.LastIndex(text, word); got != want {
				t.Errorf("%q in %q: %d, want %d", word, text, got, want)
			}
		}
	}
}
