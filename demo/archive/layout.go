package main

import (
	_ "embed"
	"fmt"
	"strings"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/protocol"
)

// repository is the name of the generated repository.
const repository = "skerry-archive"

// group is a directory of projects of one kind.
type group struct {
	dir, kind string
	share     int // of 30
}

var groups = []group{
	{"libs", "library", 11}, {"services", "service", 9}, {"apps", "app", 5}, {"data", "dataset", 3}, {"tools", "tool", 2},
}

// The names of projects are one word of each list.
var (
	firstWords = strings.Fields(`tide berth fare gull harbour ferry deck crew pilot chart buoy anchor cargo ticket cabin quay rope
		lantern mooring channel island winch beacon shoal current swell gangway bridge galley compass`)
	lastWords = strings.Fields(`board table rates log plan desk gate notes store page sheet map feed index queue meter roster guide`)
)

//go:embed kinds.toml
var kinds string

const root = `schema = 1

[repo]
name     = "` + repository + `"
projects = ["libs/*", "services/*", "apps/*", "data/*", "tools/*"]
since    = "main"
include  = ["build/kinds.toml"]

[probe.shell]
run   = "sh -c 'echo 1'"
reads = []
`

var owners = strings.Fields("pilots sales deck screens charts harbour cargo crewing")

// Tasks with something to find. Their projects change more often than others.
const (
	slowTask   = "package@tide-board"   // its outputs take longer to fetch over the slow line than to make
	flakyTask  = "test@berth-plan"      // fails now and then
	idleTask   = "prepare@fare-rates"   // reads a log that changes nothing
	randomTask = "pictures@ferry-page"  // different outputs each time
	lonelyTask = "survey@mooring-index" // not shared, for it declares no probes
)

// planted are the keys that the declarations of some projects have beside the
// name and the kind, if the regularities are planted.
var planted = map[string]string{
	"tide-board":    "\n[task.package]\nreuse = \"always\"\n",
	"fare-rates":    "\n[task.prepare]\nreads = [\"src/**\", \"log/*.txt\"]\n",
	"mooring-index": "\n[task.survey]\nrun    = \"sh ../../build/survey.sh\"\nreads  = [\"src/**\"]\nwrites = []\n",
}

// kindOf are projects whose kind is given; the others get one by their number.
var kindOf = map[string]string{
	"tide-board": "app", "berth-plan": "service", "fare-rates": "dataset", "ferry-page": "app", "mooring-index": "tool",
}

// busy are projects that change most often, those with something to find
// among them.
var busy = []string{"tide-board", "berth-plan", "fare-rates", "ferry-page", "mooring-index"}

// layout returns the declarations of the repository.
func layout(projects int, plain bool) protocol.Graph {
	g := protocol.Graph{Base: repository, Files: []protocol.DeclFile{
		{Path: "build/kinds.toml", Text: kinds}, {Path: "grayloft.toml", Text: root},
	}, Dirs: []string{}}
	names := projectNames(projects)
	byKind := map[string][]string{}
	for i, name := range names {
		k := groupOf(name, i)
		text := fmt.Sprintf("[project]\nname  = %q\nkind  = %q\nowner = %q\n", name, k.kind, owners[i%len(owners)])
		if needs := needsOf(k.kind, i, byKind); len(needs) > 0 {
			text += fmt.Sprintf("needs = [%s]\n", strings.Join(needs, ", "))
		}
		if !plain {
			text += planted[name]
		}
		byKind[k.kind] = append(byKind[k.kind], name)
		g.Files = append(g.Files, protocol.DeclFile{Path: k.dir + "/" + name + "/loft.toml", Text: text})
	}
	return g
}

func projectNames(n int) []string {
	var names []string
	for i := 0; len(names) < n; i++ {
		if len(names) == n/3 { // after libraries that they need
			names = append(names, busy...)
		}
		name := firstWords[i%len(firstWords)] + "-" + lastWords[(i/len(firstWords)+i)%len(lastWords)]
		if round := i / (len(firstWords) * len(lastWords)); round > 0 {
			name = fmt.Sprintf("%s-%d", name, round+1)
		}
		if kindOf[name] == "" {
			names = append(names, name)
		}
	}
	return names
}

func groupOf(name string, i int) group {
	at := i * 7 % 30
	for _, g := range groups {
		if kind := kindOf[name]; kind == g.kind || kind == "" && at < g.share {
			return g
		}
		at -= g.share
	}
	return groups[0]
}

// needsOf returns what the project with a number needs: some of the libraries
// before it, and of the datasets.
func needsOf(kind string, i int, byKind map[string][]string) (quoted []string) {
	pick := func(kind string, back ...int) {
		for _, b := range back {
			if list := byKind[kind]; b <= len(list) {
				quoted = append(quoted, fmt.Sprintf("%q", list[len(list)-b]))
			}
		}
	}
	switch kind {
	case "library":
		pick("library", [][]int{{}, {3}, {1, 8}, {9}}[i%4]...)
	case "service":
		pick("library", 1+i%3, 5+i%4, 10+i%7)
		pick("dataset", [][]int{{}, {}, {1}}[i%3]...)
	case "app":
		pick("library", 1+i%5, 7+i%9)
	case "tool":
		pick("library", 1+i%11)
	}
	return quoted
}

// load returns the graph of declarations.
func load(declared protocol.Graph) (*graph.Graph, error) {
	files := fstest.MapFS{}
	for _, f := range declared.Files {
		files[f.Path] = &fstest.MapFile{Data: []byte(f.Text)}
	}
	return graph.Load(files, declared.Base)
}
