package decl

import "testing"

func TestPrivateDirectoriesOfAHomeAreTheirPersons(t *testing.T) {
	for dir, want := range map[string]bool{
		".cache/tool": true, ".cache": true, "go/pkg/mod": true, ".cargo/registry": true, ".npm/": true,
		".ssh": false, ".cargo": false, ".cargo/credentials": false, ".cachet": false, "gopher": false, ".": false, "..": false,
		".cache/../.ssh": false, "../ola/.cache": false, ".config/keys": false, "charts": true, "charts/fog": true, "chartsx": false,
	} {
		if got := IsToolHome(dir, "charts"); got != want {
			t.Errorf("%s: %v", dir, got)
		}
	}
}
