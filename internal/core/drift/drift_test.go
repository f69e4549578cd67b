package drift

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
)

func TestRangesCoverEveryDifference(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		a := make([]byte, rnd.IntN(200))
		for i := range a {
			a[i] = byte(rnd.IntN(3))
		}
		b := append([]byte{}, a...)
		for range rnd.IntN(6) {
			if len(b) > 0 {
				b[rnd.IntN(len(b))] ^= byte(rnd.IntN(2))
			}
		}
		if rnd.IntN(3) == 0 {
			at := rnd.IntN(len(b) + 1)
			b = append(b[:at:at], append([]byte("new"), b[at:]...)...)
		}
		list, count := Ranges(a, b, 1000)
		if count != len(list) {
			t.Fatalf("%d ranges, and %d counted", len(list), count)
		}
		if len(a) != len(b) {
			r := list[0]
			head, tail := r.From, int64(len(a))-r.To
			if string(a[:head]) != string(b[:head]) || string(a[int64(len(a))-tail:]) != string(b[int64(len(b))-tail:]) {
				t.Fatalf("%+v of %v and %v", r, a, b)
			}
			continue
		}
		covered := make([]bool, len(a))
		for _, r := range list {
			if a[r.From] == b[r.From] || a[r.To-1] == b[r.To-1] {
				t.Fatalf("%+v begins or ends with what is equal: %v and %v", r, a, b)
			}
			for i := r.From; i < r.To; i++ {
				covered[i] = true
			}
		}
		for i := range a {
			if a[i] != b[i] && !covered[i] {
				t.Fatalf("byte %d of %v and %v is in none of %+v", i, a, b, list)
			}
		}
	}
}

func TestDifferNamesWhatOnlyOneRunMade(t *testing.T) {
	text := map[string]string{}
	row := func(path, content string, kind listing.Kind) listing.Row {
		text[path+content] = content
		return listing.Row{Path: path, Kind: kind, Size: int64(len(content)), Target: content}
	}
	first := listing.List{row("a", "x", listing.Link), row("b", "", listing.File), row("c", "", listing.File)}
	second := listing.List{row("a", "y", listing.Link), row("c", "", listing.Executable), row("d", "", listing.File)}
	got, err := Differ(first, second, func(r listing.Row) ([]byte, error) { return []byte(text[r.Path+r.Target]), nil })
	want := []string{
		"a a link to x, then to y",
		"b only in the first run",
		"c executable in only one run",
		"d only in the second run",
	}
	if err != nil || len(got) != len(want) {
		t.Fatalf("%+v, %v", got, err)
	}
	for i, d := range got {
		if d.Path+" "+d.Kind != want[i] {
			t.Errorf("%s %s, and not %s", d.Path, d.Kind, want[i])
		}
	}
}

// Lines that differ in one part of a path are one suggestion, the largest groups first;
// a few stay as they are.
func TestLinesThatDifferInOnePartAreOne(t *testing.T) {
	var list []Finding
	add := func(key string, lines ...string) {
		for _, l := range lines {
			list = append(list, Finding{Key: key, Line: fmt.Sprintf("%q", l), Why: "it read " + l, Of: []string{l}})
		}
	}
	add(
		"reads",
		"repo:a/go.mod",
		"repo:b/go.mod",
		"repo:c/go.mod",
		"repo:d/go.mod",
		"repo:a/go.sum",
		"src/1.txt",
		"src/2.txt",
		"src/3.txt",
		"src/4.txt",
		"src/5.txt",
		"src/a.go",
		"alone",
	)
	add("writes", "out/x", "out/y", "out/z")
	add("after", "build@a", "build@b", "build@c", "build@d")
	var got []string
	for _, f := range shorten(list) {
		got = append(got, f.Key+" "+strings.Trim(f.Line, `"`))
		if strings.Contains(f.Line, "src/*.txt") && (f.Why != "it read src/1.txt and 4 more like it" || len(f.Of) != 5) {
			t.Errorf("%+v", f)
		}
	}
	want := []string{
		"reads repo:*/go.mod", "reads repo:a/go.sum", "reads src/*.txt", "reads src/a.go", "reads alone", "writes out/x", "writes out/y",
		"writes out/z", "after build@a", "after build@b", "after build@c", "after build@d",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
}

func TestACompilerThatScansTestFilesOpensThem(t *testing.T) {
	for command, want := range map[string]bool{
		"go build ./...": true, "go build ./... && go vet ./...": false, "go test ./...": false, "cat x_test.go": false,
		"CGO_ENABLED=0 go run ./cmd/x": true,
	} {
		if got := scanned(command, "libs/x/x_test.go", nil) != ""; got != want {
			t.Errorf("%s: %v", command, got)
		}
		if scanned(command, "libs/x/x.go", nil) != "" {
			t.Errorf("%s does not depend on sources", command)
		}
	}
}

// What a package manager opens by itself to run a script is no input, if a probe says what is
// installed; what a tool keeps beside the installed packages is scratch.
func TestFilesOfPackageManagers(t *testing.T) {
	const probe = "[probe.packages]\nrun = \"cat state\"\nreads = [\".pnp.cjs\"]\ndirs = [\"node_modules\"]\n"
	for _, c := range []struct{ command, probes, file, want string }{
		{"yarn run --silent build", `["packages"]`, "yarn.lock", "opens"},
		{"yarn run --silent build", `["packages"]`, ".yarn/install-state.gz", "opens"},
		{"yarn run --silent build", `["packages"]`, ".pnp.cjs", "opens"},
		{"yarn run --silent build", "[]", "yarn.lock", "reads"},
		{"node build.js", `["packages"]`, ".pnp.cjs", "reads"},
		{"pnpm run build", "[]", "pnpm-workspace.yaml", "opens"},
		{"pnpm run build", "[]", "pnpm-lock.yaml", "reads"},
		{"pnpm run build", `["packages"]`, "tide/node_modules/.made/x.json", "scratch"},
		{"pnpm run build", `["packages"]`, "node_modules/.made/x.json", "writes"},
	} {
		g, err := graph.Load(fstest.MapFS{
			"grayloft.toml":  {Data: []byte("schema = 1\n[repo]\nprojects = [\"tide\"]\n" + probe)},
			"tide/loft.toml": {Data: []byte("[task.build]\nrun = \"" + c.command + "\"\nreads = []\nwrites = []\nprobes = " + c.probes + "\n")},
		}, "skerry")
		if err != nil {
			t.Fatal(err)
		}
		seen := Seen{Read: []string{c.file}}
		if strings.Contains(c.file, "node_modules") {
			seen = Seen{Stored: []string{c.file}}
		}
		found := Compare(g.Tasks[0], seen)
		if len(found) != 1 || found[0].Key != c.want || found[0].Wrong == (c.want == "opens") {
			t.Errorf("%s opens %s: %+v, want %s", c.command, c.file, found, c.want)
		}
	}
}
