// Package structure holds tests about the repository as a whole.
package structure

import (
	"encoding/json"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const module = "grayloft.example/grayloft/"

// may lists what the packages below each part may import of the module, in
// addition to their own part. Data goes one way: core → machine, remote,
// service → term → cli.
var may = map[string][]string{
	"internal/core": {},
	"internal/protocol": {
		"internal/core/advice", "internal/core/decide", "internal/core/digest", "internal/core/fleet", "internal/core/junit", "internal/core/report",
	},
	"internal/machine":  {"internal/core", "internal/protocol"},
	"internal/remote":   {"internal/core", "internal/protocol"},
	"internal/registry": {"internal/core"},
	"internal/heap":     {},
	"internal/usage":    {},
	"internal/service":  {"internal/core", "internal/heap", "internal/protocol", "internal/usage"},
	"internal/term":     {"internal/core", "internal/machine"},
	"internal/cli": {
		"internal/core",
		"internal/heap",
		"internal/machine",
		"internal/protocol",
		"internal/registry",
		"internal/remote",
		"internal/term",
		"internal/usage",
	},
	"internal/browser":   {},
	"internal/trial":     {"internal/cli", "internal/core", "internal/protocol", "internal/service"},
	"attack":             {},
	"internal/structure": {},
	"cmd/grayloft":       {"internal/cli"},
	"cmd/grayloftd":      {"internal/service"},
	"demo":               {"internal/core", "internal/protocol", "internal/registry/standin", "internal/service"},
	"bench":              {"demo", "internal/core", "internal/protocol", "internal/service"},
	"scale":              {"demo", "internal/core", "internal/machine", "internal/protocol", "internal/remote", "internal/service"},
	"docs":               {"internal/browser"},
}

// forbidden are imports that the core must not have: the network, databases,
// processes, terminals.
var forbidden = []string{
	"net",
	"net/http",
	"os/exec",
	"database/sql",
	"os/signal",
	"github.com/gin-gonic/gin",
	"github.com/spf13/cobra",
	"github.com/jmoiron/sqlx",
}

type pack struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []pack {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	cmd.Dir = filepath.Join("..", "..")
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var list []pack
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p pack
		if err := d.Decode(&p); err != nil {
			t.Fatal(err)
		}
		list = append(list, p)
	}
	return list
}

func partOf(path string) string {
	best := ""
	for part := range may {
		if (path == part || strings.HasPrefix(path, part+"/")) && len(part) > len(best) {
			best = part
		}
	}
	return best
}

func TestDataGoesOneWay(t *testing.T) {
	list := packages(t)
	if len(list) < 20 {
		t.Fatalf("only %d packages were found", len(list))
	}
	for _, p := range list {
		from := strings.TrimPrefix(p.ImportPath, module)
		part := partOf(from)
		if part == "" {
			t.Errorf("%s belongs to no part", from)
			continue
		}
		for _, imp := range p.Imports {
			to, own := strings.CutPrefix(imp, module)
			if part == "internal/core" && slices.Contains(forbidden, imp) {
				t.Errorf("%s imports %s: the core has no network, terminal, database or process", from, imp)
			}
			if !own || to == part || strings.HasPrefix(to, part+"/") {
				continue
			}
			if !slices.ContainsFunc(may[part], func(ok string) bool { return to == ok || strings.HasPrefix(to, ok+"/") }) {
				t.Errorf("%s imports %s, which %s may not", from, to, part)
			}
		}
	}
}
